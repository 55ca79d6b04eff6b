"""Counting and measuring a scene: inventory, distances, memory."""
