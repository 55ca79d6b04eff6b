"""Colour transforms, error metrics and noise estimates."""
