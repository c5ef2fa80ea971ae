"""Tables: reading files, kinds of columns, missing codes, which column groups which."""
