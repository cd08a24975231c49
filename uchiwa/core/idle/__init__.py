"""The engine at idle and while it warms: moments, quality, after-start."""
