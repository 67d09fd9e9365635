"""A way of talking that exists nowhere else: what it would put into the room of ways, and into that of wires."""
