"""The management plane of one unit as a value. Imports only the ground floor."""
