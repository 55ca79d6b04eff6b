"""Finish: the final frames."""
