"""Reference problems with exact answers, solved on the user's own machine."""
