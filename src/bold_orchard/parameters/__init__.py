"""What a model estimates: the identity, the label and the place of every parameter."""
