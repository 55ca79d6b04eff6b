"""Counting and measuring a scene: analysis, distances, memory."""
