"""Windows, by ctypes: nothing has to be compiled or installed."""
