"""What other commands say, from the draws of a posterior instead of the likelihood."""
