"""The list of jobs, where scenes are opened."""
