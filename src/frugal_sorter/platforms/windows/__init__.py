"""Windows, by ctypes: nothing has to be compiled or installed. Seen with a Windows Python under wine alone."""
