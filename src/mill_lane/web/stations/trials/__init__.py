"""Trials: test renders, kept and compared."""
