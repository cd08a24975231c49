"""Pulls at full load: power and torque from dyno files and road logs, laid over each other and compared."""
