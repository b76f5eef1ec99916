"""Secrets kept out of what is shown and kept: which values are secret, and a stream masked whatever its pieces."""

from __future__ import annotations

import base64
import json
import re
from collections.abc import Iterable, Iterator, Mapping
from functools import cached_property
from pathlib import Path
from urllib.parse import quote, quote_plus, unquote

from dokimon.core.expressions import expression
from dokimon.core.files import text_of

_SHORTEST = 6
"""Characters: a shorter value is in half of all words."""

_NAME = expression(
    r"TOKEN|SECRET|PASSWORD|PASSWD|PASSPHRASE|CREDENTIAL|COOKIE|(?:API|ACCESS|PRIVATE)_?KEY"
    r"|(?:^|_)(?:KEY|PW|PWD|PASS|PAT|AUTH|DSN)$",
    re.IGNORECASE,
)
_NOT_SECRET = frozenset({"PWD", "OLDPWD", "XAUTHORITY", "SSH_AUTH_SOCK"})
"""Variables of the system whose names only look like it: folders and sockets."""

_IN_URL = expression(r"(?<![a-z0-9+.-])[a-z][a-z0-9+.-]{0,30}://[^\s/:@]{0,200}:([^\s/@]+)@", re.IGNORECASE)
_ASSIGNMENT = expression(r"^[ \t]*(?:export[ \t]+)?(\w+)[ \t]*=[ \t]*(.*)$", re.MULTILINE)


def is_secret_name(name: str) -> bool:
    """Whether what goes by this name is a secret by custom."""
    return bool(_NAME.search(name)) and name not in _NOT_SECRET


def secrets_in(environment: Mapping[str, str], root: Path | None = None) -> tuple[bytes, ...]:
    """Return the values to mask, the longest first: those of variables, and of the `.env` of the checkout `root`.

    A value is secret where the name of its variable says so; a password in a URL is in any variable. Their forms in URLs,
    in JSON and in base64 are secret too, and so is each line of one that has several.
    """
    named = list(environment.items())
    if root is not None:
        named += [
            (name, value.strip().strip("\"'")) for name, value in _ASSIGNMENT.findall(text_of(root / ".env", 1 << 20))
        ]
    found: set[bytes] = set()
    for name, value in named:
        plain = [value] if is_secret_name(name) else []
        for secret in (*plain, *_IN_URL.findall(value)):
            found.update(form for form in _forms(secret) if len(form) >= _SHORTEST)
    return tuple(sorted(found, key=lambda value: (-len(value), value)))


def _forms(secret: str) -> Iterator[bytes]:
    for text in (secret, unquote(secret), *(line.strip() for line in secret.splitlines())):
        if len(text) < _SHORTEST:
            continue
        content = text.encode("utf-8", "surrogateescape")  # as the environment has it: bytes that need not be text
        yield content
        yield quote(content, safe="").encode()
        yield quote_plus(content).encode()
        yield json.dumps(text)[1:-1].encode()
        yield base64.b64encode(content)
        yield base64.urlsafe_b64encode(content)


_LARGE_PIECE = 16 * 1024
_RAREST = b"ZQXJqKVWYBzjUGHFxM"
"""Letters that texts have least, the rarest first; what is no letter and no digit may be rarer still."""
_COMMON = b'0123456789etaoinsrhldcump .,:-_/="'
_MOST_BYTES = 5


def _rank(byte: int) -> int:
    at = _RAREST.find(byte)
    return at if at >= 0 else 100 + (byte in _COMMON)


class _Present(dict[int, bool]):
    """Whether each byte is in a text, looked for when it is first asked: that is far faster than looking for a secret."""

    def __init__(self, text: bytes) -> None:
        super().__init__()
        self._text = text

    def __missing__(self, byte: int) -> bool:
        self[byte] = found = self._text.find(byte) >= 0
        return found


class Mask:
    """Masks secrets in pieces of one stream. The end of a piece that may be the beginning of a secret is held back."""

    def __init__(self, secrets: Iterable[bytes]) -> None:
        self._secrets = sorted(set(secrets), key=lambda value: (-len(value), value))
        self._pattern = re.compile(b"|".join(map(re.escape, self._secrets))) if self._secrets else None

    @property
    def is_empty(self) -> bool:
        """Whether there is nothing to mask."""
        return self._pattern is None

    def masked(self, piece: bytes) -> bytes:
        """Return a piece with its secrets masked."""
        return self._pattern.sub(b"***", piece) if self._pattern and self._is_in(piece) else piece

    def masked_text(self, text: str) -> str:
        """Return a text with its secrets masked."""
        return text if self.is_empty else self.masked(text.encode("utf-8", "surrogatepass")).decode("utf-8", "replace")

    def _is_in(self, text: bytes) -> bool:
        """Whether there is any secret: searching for each plainly takes a fraction of the time of one pattern of all."""
        if len(text) < _LARGE_PIECE:
            return any(secret in text for secret in self._secrets)
        present = _Present(text)
        return any(all(present[byte] for byte in rare) and secret in text for secret, rare in self._rare_bytes)

    @cached_property
    def _rare_bytes(self) -> list[tuple[bytes, list[int]]]:
        """Each secret with those of its bytes that texts have least: without one of them, it is not there."""
        return [(secret, sorted(set(secret), key=_rank)[:_MOST_BYTES]) for secret in self._secrets]

    def split(self, text: bytes, end: int) -> tuple[bytes, bytes]:
        """Return `text` up to `end`, masked, and the rest of it. No secret is cut: the first part ends after the one around
        `end`, or before one that begins there.
        """
        if self._pattern is None:
            return text[:end], text[end:]
        has_secrets = self._is_in(text)
        cut = self._cut(text, end, has_secrets=has_secrets)
        ready = text[:cut]
        return self._pattern.sub(b"***", ready) if has_secrets else ready, text[cut:]

    def _cut(self, text: bytes, end: int, *, has_secrets: bool) -> int:
        assert self._pattern is not None
        inside = range(0)
        for match in self._pattern.finditer(text) if has_secrets else ():
            if match.start() >= end:
                break
            end = max(end, match.end())
            inside = range(match.start() + 1, match.end())
        first = max(0, end - len(self._secrets[0]) + 1)
        for start, byte in enumerate(text[first:end], first):
            beginning = self._by_first_byte.get(byte)
            if beginning and start not in inside and any(secret.startswith(text[start:end]) for secret in beginning):
                return start
        return end

    @cached_property
    def _by_first_byte(self) -> dict[int, list[bytes]]:
        found: dict[int, list[bytes]] = {}
        for secret in self._secrets:
            found.setdefault(secret[0], []).append(secret)
        return found
