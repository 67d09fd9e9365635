"""What happens while a sheet is carried out: events, history, the executor, proofs."""
