"""Covariances: of the effects of units, and of the residuals among rows."""
