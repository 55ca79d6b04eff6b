"""Subdivision surfaces: Catmull-Clark and Loop, evaluated on the surface itself."""
