"""Draws from the posterior of a fitted model, and whether they can be believed."""
