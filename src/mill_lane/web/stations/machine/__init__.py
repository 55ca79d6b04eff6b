"""Machine: this computer, simulated cards, memory profiles of other renderers."""
