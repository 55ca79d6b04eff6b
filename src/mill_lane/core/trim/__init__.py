"""Trims: from a scene to a lighter scene, with a report of what changed."""
