"""What is known of one make, read from data: the model, its checker, spelling, reading and writing."""
