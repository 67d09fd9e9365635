"""The shapes of our three files, as pydantic models, one file each. Their JSON Schemas are printed from here."""
