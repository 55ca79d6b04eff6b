"""The interface: a folder for each station, what they share, static files."""
