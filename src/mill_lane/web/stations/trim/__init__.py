"""Trim: what makes the scene lighter, staged and applied."""
