"""Talking to a host: commands, and one framed script for many of them."""
