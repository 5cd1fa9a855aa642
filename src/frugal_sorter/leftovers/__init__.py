"""What a program left behind: settings, caches, data and logs of one that is no longer installed."""
