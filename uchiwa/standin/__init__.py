"""Stand-ins: simulated cars, sensors and drivers, whose hidden truth the calibration does not know."""
