"""Files with the same contents: the search, which one stays, and the plan for the others."""
