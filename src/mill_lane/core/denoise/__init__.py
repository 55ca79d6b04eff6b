"""Removing noise after the render, and telling what is left of it."""
