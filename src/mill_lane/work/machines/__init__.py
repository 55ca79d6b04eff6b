"""Frames on several machines, over a scheduler that is there already (`distributed`)."""
