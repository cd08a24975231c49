"""What a shop keeps to start from: what a file is, and how a map is carried over to another car."""
