"""The only package that changes a user's files."""
