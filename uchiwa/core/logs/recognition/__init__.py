"""What the channels of a log are: quantity, unit and doubt, judged together."""
