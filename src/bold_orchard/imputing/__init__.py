"""Rows with missing covariates kept: values drawn compatibly with the sentence, fits of the completed rows pooled."""
