"""From samples to figures on a grid: conditions, delay, transients, bins, surface and uncertainty."""
