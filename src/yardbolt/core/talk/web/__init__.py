"""Talking over HTTP: objects, and pages with forms."""
