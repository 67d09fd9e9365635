"""Conversations without a wire, one file for each way of talking. Knows no family and no plane."""
