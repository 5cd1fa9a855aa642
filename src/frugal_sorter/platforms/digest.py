"""BLAKE2b without the rest of `hashlib`: that loads OpenSSL for its other digests, which takes as long as reading a rule file."""

from __future__ import annotations

try:
    from _blake2 import blake2b
except ImportError:  # an interpreter that keeps it elsewhere
    from hashlib import blake2b

__all__ = ["blake2b"]
