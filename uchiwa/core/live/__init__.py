"""A log that is read while it is recorded: what is passed on, how it grows, what it fills, what the driver is told."""
