"""Numbers about folders; nothing here prints or changes anything."""
