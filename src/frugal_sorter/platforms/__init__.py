"""What differs between systems: one module a concern, which takes what it gives from the system it runs on.

Nothing outside this package knows a system, or asks which one it runs on.
"""
