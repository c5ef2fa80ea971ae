"""Studies that are not yet made: outcomes drawn from a model, and how often its effects would be found."""
