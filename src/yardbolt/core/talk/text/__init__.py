"""Talking in text: a console."""
