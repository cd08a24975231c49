"""Sentences that can be said in another language than they were written in."""
