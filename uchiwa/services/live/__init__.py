"""Live sessions: samples passed on, watched, corrected under limits, and the driver told what is still wanted."""
