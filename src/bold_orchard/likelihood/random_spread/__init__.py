"""Units with a residual spread of their own (Hedeker, Mermelstein & Demirtas 2008)."""
