"""Measurements of speed and memory, as ratios against a reference in the same run."""
