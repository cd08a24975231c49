"""What a customer is asked to record, and whether it was."""
