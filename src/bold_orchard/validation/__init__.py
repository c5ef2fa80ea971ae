"""How well a model predicts what it has not seen."""
