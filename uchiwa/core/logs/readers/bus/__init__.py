"""Recordings of a vehicle's bus (CAN): frames, and the signals that a DBC says are in them."""
