"""From what is kept to what is shown: one module for each station, and the Lane."""
