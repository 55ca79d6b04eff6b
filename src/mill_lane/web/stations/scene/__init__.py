"""Scene: what is in the scene, weighed."""
