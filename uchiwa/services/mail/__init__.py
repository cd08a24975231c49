"""Mails: what they tell, how they are written, and how they are sent."""
