"""What can be measured: its names, units and plausible ranges."""
