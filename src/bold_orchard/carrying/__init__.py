"""Units' effects of one model as predictors of a second outcome, with their uncertainty."""
