"""What a device is: this computer's CPU as found, and simulated cards."""
