"""Runs as every room speaks of them: their states, their epochs, their curves, the steady loss."""
