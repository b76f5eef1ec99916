"""What services say of themselves, each in its own protocol: the product, and its version where it has one to give."""

from __future__ import annotations

import os
import re
import shutil
import socket
import struct
import time
from collections.abc import Callable
from pathlib import Path

import msgspec

from dokimon.core.machine.asking import Asker
from dokimon.core.machine.catalogue import Ask
from dokimon.core.machine.platform import loopback_addresses
from dokimon.core.machine.search_path import SearchPath
from dokimon.core.text import clean

LIMIT_SECONDS = 2.0
_LARGEST_BYTES = 64 * 1024

Speak = Callable[[socket.socket, str, int, Asker], "Greeting"]


class Greeting(msgspec.Struct, frozen=True, kw_only=True):
    """What answered: whether anything listens, which product it says it is, its version, or why that is not known."""

    listens: bool
    product: str | None = None
    version: str | None = None
    reason: str | None = None


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


_HTTP_PRODUCTS = (
    ("OpenSearch", r'"distribution"\s*:\s*"opensearch"', r'"number"\s*:\s*"(\d+(?:\.\d+)+[^"]*)"'),
    ("Elasticsearch", r"You Know, for Search|^x-elastic-product:", r'"number"\s*:\s*"(\d+(?:\.\d+)+[^"]*)"'),
    ("CouchDB", r'"couchdb"\s*:\s*"Welcome"', r'"version"\s*:\s*"(\d+(?:\.\d+)+)'),
    ("ClickHouse", r"^x-clickhouse-", r"^x-clickhouse-version:\s*(\S+)"),
    ("InfluxDB", r"^x-influxdb-version:", r"^x-influxdb-version:\s*v?(\S+)"),
    ("MinIO", r"^server:\s*MinIO", r"^server:\s*MinIO/(\S+)"),
    ("Meilisearch", r"\bMeilisearch\b", r'"pkgVersion"\s*:\s*"([^"]+)"'),
)
"""What is served over HTTP says of itself on its root page or in its fields: the product, how it shows, its version."""


def _http(link: socket.socket, host: str, port: int, asker: Asker) -> Greeting:
    """HTTP/1.1: what the root page and the fields say, else the Server field (RFC 9110 §10.2.4)."""
    link.sendall(f"GET / HTTP/1.1\r\nHost: {host}:{port}\r\nAccept: */*\r\nConnection: close\r\n\r\n".encode())
    answer = _received(link, enough=lambda data: False).decode("utf-8", "replace")
    if not answer.startswith("HTTP/"):
        return Greeting(listens=True, reason="its answer is not HTTP")
    for product, shows, has_version in _HTTP_PRODUCTS:
        if re.search(shows, answer, re.MULTILINE | re.IGNORECASE):
            version = re.search(has_version, answer, re.MULTILINE | re.IGNORECASE)
            silent = None if version else f"{product} does not give its version"
            told = clean(version[1], 40) if version else None
            return Greeting(listens=True, product=product, version=told, reason=silent)
    head = answer.partition("\r\n\r\n")[0]
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


def _mongodb(link: socket.socket, host: str, port: int, asker: Asker) -> Greeting:
    """MongoDB answers `buildInfo` before any login (its wire protocol, "OP_MSG"; BSON)."""
    command = b"\x10buildInfo\0" + struct.pack("<i", 1) + b"\x02$db\0" + struct.pack("<i", 6) + b"admin\0"
    document = struct.pack("<i", len(command) + 5) + command + b"\0"
    body = struct.pack("<iB", 0, 0) + document
    link.sendall(struct.pack("<iiii", 16 + len(body), 1, 0, 2013) + body)
    answer = _received(link, enough=lambda data: len(data) >= 4 and len(data) >= struct.unpack("<i", data[:4])[0])
    found = re.search(rb"\x02version\0....(\d+(?:\.\d+)+[\w.-]*)\0", answer, re.DOTALL)
    if found:
        return Greeting(listens=True, product="MongoDB", version=clean(found[1].decode("ascii", "replace"), 40))
    if len(answer) >= 16 and struct.unpack("<i", answer[12:16])[0] == 2013:
        return Greeting(listens=True, product="MongoDB", reason="it gives no version")
    return Greeting(listens=True, reason="its answer is not that of MongoDB")


def _rabbitmq(link: socket.socket, host: str, port: int, asker: Asker) -> Greeting:
    """AMQP 0-9-1 §2.2.4: the server begins with its properties, `product` and `version` among them."""
    link.sendall(b"AMQP\0\0\x09\x01")
    answer = _received(link, enough=lambda data: data.endswith(b"\xce"))
    product = re.search(rb"\x07productS....([\x20-\x7e]+)", answer, re.DOTALL)
    version = re.search(rb"\x07versionS....(\d+(?:\.\d+)+)", answer, re.DOTALL)
    if product is None:
        return Greeting(listens=True, reason="its answer is not that of a message broker with AMQP 0-9-1")
    name = re.match(r"[\w -]+", product[1].decode("ascii"))
    return Greeting(
        listens=True, product=clean(name[0] if name else "?", 40), version=version[1].decode() if version else None,
        reason=None if version else "it gives no version",
    )  # fmt: skip


def _nats(link: socket.socket, host: str, port: int, asker: Asker) -> Greeting:
    """NATS greets with INFO and a JSON object (its client protocol, "INFO")."""
    greeting = _received(link, enough=lambda data: data.endswith(b"\r\n")).decode("utf-8", "replace")
    version = re.search(r'"version"\s*:\s*"(\d[\w.-]*)"', greeting)
    if not greeting.startswith("INFO {") or version is None:
        return Greeting(listens=True, reason="its greeting is not that of NATS")
    return Greeting(listens=True, product="NATS", version=version[1])


def _kafka(link: socket.socket, host: str, port: int, asker: Asker) -> Greeting:
    """Kafka answers which requests it knows (its protocol guide, "ApiVersions"); no request tells its version."""
    name = b"dokimon"
    body = struct.pack(">hhih", 18, 0, 7, len(name)) + name
    link.sendall(struct.pack(">i", len(body)) + body)
    answer = _received(link, enough=lambda data: len(data) >= 4 and len(data) >= 4 + int.from_bytes(data[:4], "big"))
    if len(answer) < 14 or answer[4:8] != struct.pack(">i", 7) or answer[8:10] != b"\0\0":
        return Greeting(listens=True, reason="its answer is not that of Kafka")
    return Greeting(listens=True, product="Kafka", reason="Kafka tells nobody its version")


def _cassandra(link: socket.socket, host: str, port: int, asker: Asker) -> Greeting:
    """Cassandra's native protocol, version 4: OPTIONS (5) is answered by SUPPORTED (6); none of it is a version."""
    link.sendall(struct.pack(">BBhBi", 4, 0, 0, 5, 0))
    answer = _received(link, enough=lambda data: len(data) >= 9)
    if len(answer) < 9 or not answer[0] & 0x80 or (answer[4] != 6 and b"CQL_VERSION" not in answer):
        return Greeting(listens=True, reason="its answer is not that of Cassandra")
    return Greeting(listens=True, product="Cassandra", reason="it gives its version only after a login")


_SPEAKS: dict[str, Speak] = {
    "mysql": _mysql, "mariadb": _mysql, "redis": _redis, "valkey": _redis, "postgres": _postgresql,
    "postgresql": _postgresql, "memcached": _memcached, "smtp": _smtp, "mongodb": _mongodb, "mongo": _mongodb,
    "rabbitmq": _rabbitmq, "nats": _nats, "kafka": _kafka, "cassandra": _cassandra,
    **dict.fromkeys(("http", "nginx", "apache", "caddy", "elasticsearch", "opensearch", "couchdb", "clickhouse", "influxdb",
        "minio", "meilisearch"), _http),
}  # fmt: skip
_SAME = {"postgres": "postgresql", "mongo": "mongodb"}


def protocol_of(name: str) -> Speak | None:
    """Return what speaks the protocol of a service of this name, or None."""
    return _SPEAKS.get(name.lower())


def is_the_product(name: str, product: str) -> bool:
    """Whether a service that was asked for by `name` is the product that greeted (`postgres` is PostgreSQL).

    `http` asks for no product: whatever speaks it will do.
    """
    return name.lower() == "http" or _SAME.get(name.lower(), name.lower()) == product.lower()


def _received(link: socket.socket, enough: Callable[[bytes], bool]) -> bytes:
    """Return what comes until it is enough, the other side ends, it is more than any greeting, or the time is over."""
    data = b""
    deadline = time.monotonic() + LIMIT_SECONDS
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
