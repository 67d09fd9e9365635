"""A yard of real hosts for the tests: Debian roots, each in namespaces of its own."""
