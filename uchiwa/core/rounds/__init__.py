"""Where a round stands, and how the error shrinks from round to round."""
