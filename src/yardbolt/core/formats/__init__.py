"""Open formats: decoders of what units and hosts say, and the library of what is run on a host."""
