"""What a scene is, and where its things stand at a time."""
