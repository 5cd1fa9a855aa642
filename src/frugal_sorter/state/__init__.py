"""Where the tool keeps its own things; nothing here touches a user's files."""
