"""The classical analysis of designed experiments: sums of squares, expected mean squares, the right error of each line."""
