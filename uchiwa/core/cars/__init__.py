"""What has to be known of a car: its file, fuel, sensors, and temporary setups."""
