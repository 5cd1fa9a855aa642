"""Facts and rules in, plans out; nothing here changes a file."""
