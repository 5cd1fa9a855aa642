"""Rules that a folder itself suggests: by the names, types and places of what lies in it. Nothing is changed."""
