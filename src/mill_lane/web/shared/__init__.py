"""What the stations share: drawing a page, the strip of stations, figures, events, security."""
