"""Studies: fits that belong together, as a report, and as a plan that makes them again."""
