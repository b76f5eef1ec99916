"""Services that listen on this machine: what each says of itself in its own protocol's greeting."""

from __future__ import annotations

import os
import re
import shutil
import socket
import time
from collections.abc import Callable
from pathlib import Path

import msgspec

from dokimon.core.machine.asking import Asker
from dokimon.core.machine.catalogue import Ask
from dokimon.core.machine.platform import loopback_addresses
from dokimon.core.machine.search_path import SearchPath
from dokimon.core.text import clean

_LIMIT_SECONDS = 2.0
_LARGEST_BYTES = 64 * 1024


class Greeting(msgspec.Struct, frozen=True, kw_only=True):
    """What answered: whether anything listens, which product it says it is, its version, or why that is not known."""

    listens: bool
    product: str | None = None
    version: str | None = None
    reason: str | None = None


def greet(name: str, host: str, port: int, asker: Asker) -> Greeting:
    """Connect to a service on this machine, and read its version where its protocol has one.

    `name` says which protocol is expected; of a service of another name it is only known whether it listens.
    """
    silent = Greeting(listens=False, reason=f"{clean(host, 80)} is another machine, which is not asked")
    for address in loopback_addresses(host):
        silent = _greet(name, address, port, asker)
        if silent.listens:
            break
    return silent


def _greet(name: str, host: str, port: int, asker: Asker) -> Greeting:
    try:
        with socket.create_connection((host, port), timeout=_LIMIT_SECONDS) as link:
            link.settimeout(_LIMIT_SECONDS)
            speak = _PROTOCOLS.get(_PRODUCTS.get(name.lower(), ""))
            if speak is None:
                return Greeting(listens=True, reason=f"Dokimon does not know the protocol of {clean(name, 40)}")
            return speak(link, host, port, asker)
    except TimeoutError:
        return Greeting(listens=True, reason=f"it did not greet within {_LIMIT_SECONDS:g} seconds")
    except (ConnectionResetError, BrokenPipeError):
        return Greeting(listens=True, reason="it hung up")
    except (OSError, UnicodeError) as wrong:
        return Greeting(listens=False, reason=getattr(wrong, "strerror", None) or str(wrong))


def has_a_protocol(name: str) -> bool:
    """Whether a service of this name would say what it is. `http` stands for whatever speaks it."""
    return name.lower() in _PRODUCTS and name.lower() != "http"


def is_the_product(name: str, product: str) -> bool:
    """Whether a service that was asked for by `name` is the product that greeted (`postgres` is PostgreSQL).

    `http` asks for no product: whatever speaks it will do.
    """
    return name.lower() == "http" or _SAME.get(name.lower(), name.lower()) == product.lower()


_PRODUCTS = {
    "mysql": "mysql", "mariadb": "mysql", "redis": "redis", "valkey": "redis", "postgres": "postgresql",
    "postgresql": "postgresql", "http": "http", "nginx": "http", "apache": "http", "elasticsearch": "http",
    "opensearch": "http", "memcached": "memcached", "smtp": "smtp",
}  # fmt: skip
_SAME = {"postgres": "postgresql"}


def _mysql(link: socket.socket, host: str, port: int, asker: Asker) -> Greeting:
    """MySQL client/server protocol, "Protocol::HandshakeV10": length, number, 10, the version up to a zero byte.

    MariaDB puts 5.5.5- before its own version, so that old replicas of MySQL accept it.
    """
    packet = _received(link, enough=lambda data: len(data) >= 4 and len(data) >= 4 + int.from_bytes(data[:3], "little"))
    body = packet[4:]
    if body[:1] == b"\xff":
        return Greeting(listens=True, reason=f"it refuses to talk: “{clean(body[3:].decode('utf-8', 'replace'), 120)}”")
    if body[:1] != b"\x0a":
        return Greeting(listens=True, reason="its greeting is not that of MySQL or MariaDB")
    text = body[1:].partition(b"\0")[0].decode("ascii", "replace")
    maria = re.match(r"(?:5\.5\.5-)?(\d+(?:\.\d+)+)(?=.*mariadb)", text, re.IGNORECASE)
    plain = re.match(r"\d+(?:\.\d+)+", text)
    if maria:
        return Greeting(listens=True, product="MariaDB", version=maria[1])
    return Greeting(
        listens=True,
        product="MySQL",
        version=plain[0] if plain else None,
        reason=None if plain else f"its version is “{clean(text, 80)}”",
    )


def _redis(link: socket.socket, host: str, port: int, asker: Asker) -> Greeting:
    """Redis serialization protocol: INFO is answered by a bulk string of `key:value` lines, or by an error."""
    link.sendall(b"INFO server\r\n")
    answer = _received(link, enough=lambda data: b"_version:" in data and data.endswith(b"\r\n")).decode(
        "utf-8", "replace"
    )
    if answer.startswith("-"):
        refusal = clean(answer[1:].partition("\r\n")[0], 120)
        return Greeting(listens=True, product="Redis", reason=f"it gives no version without a password: “{refusal}”")
    valkey = re.search(r"^valkey_version:(\S+)", answer, re.MULTILINE)
    found = valkey or re.search(r"^redis_version:(\S+)", answer, re.MULTILINE)
    if not found:
        return Greeting(listens=True, reason="its answer is not that of Redis")
    return Greeting(listens=True, product="Valkey" if valkey else "Redis", version=clean(found[1], 40))


_OF_A_LOGIN = ("PGUSER", "PGPASSWORD", "PGSSLMODE", "PGSSLROOTCERT", "PGSSLCERT", "PGSSLKEY")
"""What psql is given of libpq's variables: PGHOSTADDR, PGSERVICE and others could send it elsewhere."""


def _postgresql(link: socket.socket, host: str, port: int, asker: Asker) -> Greeting:
    """PostgreSQL gives its version only after a login: the real client asks, where the user has chosen this very server.

    The address is the checkout's word. A password goes there only where the user's own variables name it as well, and
    never one out of a file that is kept for any address. Whether it is PostgreSQL shows in its one-byte answer to an
    SSLRequest (its protocol, "Message Formats").
    """
    link.sendall((8).to_bytes(4, "big") + (80877103).to_bytes(4, "big"))
    if _received(link, enough=lambda data: len(data) >= 1)[:1] not in (b"S", b"N"):
        return Greeting(listens=True, reason="its answer is not that of PostgreSQL")
    given = asker.environment
    secret = "it gives its version only after a login"
    client = _client(asker)
    if not given.get("PGUSER"):
        return Greeting(listens=True, product="PostgreSQL", reason=f"{secret}; set PGUSER, PGPASSWORD and PGPORT")
    own_host = given.get("PGHOST", "localhost")
    if host not in loopback_addresses(own_host) or given.get("PGPORT", "5432") != str(port):
        reason = f"{secret}; PGUSER is for {own_host} port {given.get('PGPORT', '5432')}, and not used here"
        return Greeting(listens=True, product="PostgreSQL", reason=reason)
    if client is None:
        return Greeting(listens=True, product="PostgreSQL", reason=f"{secret}, and psql, which could ask, is not here")
    quiet = {"PGCONNECT_TIMEOUT": "3", "PGPASSFILE": os.devnull, "PSQLRC": os.devnull}
    environment = asker.variables_for(Ask(environment=quiet), _OF_A_LOGIN)
    database = given.get("PGDATABASE", "postgres")
    if "=" in database or "://" in database:  # that would be a whole address (libpq, "Connection Strings")
        database = "postgres"
    command = [client, "-X", "-w", "-At", "-h", host, "-p", str(port), "-d", database]
    answer = asker.output([*command, "-c", "show server_version"], environment)
    found = re.match(r"\d+(?:\.\d+)*", answer.output.strip())
    if found:
        return Greeting(listens=True, product="PostgreSQL", version=found[0])
    return Greeting(listens=True, product="PostgreSQL", reason=f"psql could not ask it: {answer.reason}")


def _client(asker: Asker) -> str | None:
    """Return the psql on PATH, unless the checkout has a hand in it."""
    found = shutil.which("psql", path=asker.variables_for(Ask())["PATH"])
    places = SearchPath(asker.environment, asker.checkout, asker.checkout)
    if found is None or places.in_checkout(Path(found).resolve()) or places.starts_checkout(Path(found).resolve()):
        return None
    return found


def _http(link: socket.socket, host: str, port: int, asker: Asker) -> Greeting:
    """HTTP/1.1: the Server field (RFC 9110 §10.2.4), or the version on the JSON root page of a search engine."""
    link.sendall(f"GET / HTTP/1.1\r\nHost: {host}:{port}\r\nAccept: */*\r\nConnection: close\r\n\r\n".encode())
    answer = _received(link, enough=lambda data: False).decode("utf-8", "replace")
    if not answer.startswith("HTTP/"):
        return Greeting(listens=True, reason="its answer is not HTTP")
    head, _, body = answer.partition("\r\n\r\n")
    if number := re.search(r'"number"\s*:\s*"(\d+(?:\.\d+)+[^"]*)"', body):
        engine = "OpenSearch" if '"opensearch"' in body else "Elasticsearch"
        return Greeting(listens=True, product=engine, version=clean(number[1], 40))
    server = re.search(r"^server:\s*([\w-]+)(?:/(\d[\w.-]*))?", head, re.MULTILINE | re.IGNORECASE)
    if server:
        silent = None if server[2] else f"{clean(server[1], 40)} does not give its version"
        return Greeting(listens=True, product=clean(server[1], 40), version=server[2], reason=silent)
    return Greeting(listens=True, reason="it does not say which server it is")


def _memcached(link: socket.socket, host: str, port: int, asker: Asker) -> Greeting:
    """memcached's text protocol: `version` is answered by VERSION and the number."""
    link.sendall(b"version\r\n")
    found = re.match(rb"VERSION (\S+)", _received(link, enough=lambda data: data.endswith(b"\r\n")))
    if not found:
        return Greeting(listens=True, reason="its answer is not that of memcached")
    return Greeting(listens=True, product="memcached", version=clean(found[1].decode("ascii", "replace"), 40))


def _smtp(link: socket.socket, host: str, port: int, asker: Asker) -> Greeting:
    """SMTP greets with 220 and its own name (RFC 5321 §4.2)."""
    greeting = _received(link, enough=lambda data: data.endswith(b"\r\n")).decode("utf-8", "replace")
    if not greeting.startswith("220"):
        return Greeting(listens=True, reason="its greeting is not that of a mail server")
    return Greeting(listens=True, product="SMTP", reason="mail servers give no version")


_PROTOCOLS: dict[str, Callable[[socket.socket, str, int, Asker], Greeting]] = {
    "mysql": _mysql, "redis": _redis, "postgresql": _postgresql, "http": _http, "memcached": _memcached, "smtp": _smtp,
}  # fmt: skip


def _received(link: socket.socket, enough: Callable[[bytes], bool]) -> bytes:
    """Return what comes until it is enough, the other side ends, it is more than any greeting, or the time is over."""
    data = b""
    deadline = time.monotonic() + _LIMIT_SECONDS
    while len(data) < _LARGEST_BYTES and not enough(data):
        try:
            link.settimeout(max(deadline - time.monotonic(), 0.001))
            chunk = link.recv(4096)
        except TimeoutError:
            if data:
                break
            raise
        if not chunk:
            break
        data += chunk
    return data
