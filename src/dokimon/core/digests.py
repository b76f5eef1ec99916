"""The digest that names things: BLAKE2b (RFC 7693).

`hashlib` loads OpenSSL before it offers this function, which is not of OpenSSL: 4 ms of each call.
"""

from __future__ import annotations

try:
    from _blake2 import blake2b
except ImportError:  # another Python than CPython
    from hashlib import blake2b

__all__ = ["blake2b"]
