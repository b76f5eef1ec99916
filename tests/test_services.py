"""Services that must listen: what each says of itself, played by sockets that say what the protocols prescribe."""

from __future__ import annotations

import socket
import struct
import threading
from collections.abc import Iterator
from contextlib import contextmanager

import pytest

from conftest import World
from dokimon.core.machine.platform import loopback_addresses


@contextmanager
def listener(says: bytes, *, first: bool, hold: bool = False) -> Iterator[int]:
    """Listen on a free port; say `says` at once (`first`) or after having been spoken to, to each who comes."""
    with socket.create_server(("127.0.0.1", 0)) as server:
        server.settimeout(20)

        def serve() -> None:
            while True:
                try:
                    link, _ = server.accept()
                except OSError:
                    return
                with link:
                    link.settimeout(5)
                    try:
                        if not first:
                            link.recv(4096)
                        link.sendall(says)
                        if hold:
                            link.recv(4096)
                            link.recv(4096)
                    except OSError:
                        continue

        threading.Thread(target=serve, daemon=True).start()
        yield server.getsockname()[1]


def mysql(version: bytes) -> bytes:
    """The first packet of a MySQL server (its protocol, "Protocol::HandshakeV10")."""
    body = b"\x0a" + version + b"\0" + bytes(30)
    return len(body).to_bytes(3, "little") + b"\0" + body


INFO = b"$40\r\n# Server\r\nredis_version:7.2.4\r\nos:Linux\r\n\r\n"
VALKEY = b"$60\r\n# Server\r\nredis_version:7.2.4\r\nvalkey_version:8.0.1\r\n\r\n"
SEARCH = b'HTTP/1.1 200 OK\r\n\r\n{"version": {"number": "8.13.4"}, "tagline": "You Know, for Search"}'
OPENSEARCH = b'HTTP/1.1 200 OK\r\n\r\n{"version": {"distribution": "opensearch", "number": "2.11.1"}, "tagline": "x"}'
COUCH = b'HTTP/1.1 200 OK\r\n\r\n{"couchdb": "Welcome", "version": "3.3.2", "vendor": {}}'
LOCKED = b"HTTP/1.1 401 Unauthorized\r\nX-elastic-product: Elasticsearch\r\n\r\n{}"
PYTHON = b"HTTP/1.0 200 OK\r\nServer: SimpleHTTP/0.6 Python/3.11.7\r\n\r\n"
NATS = b'INFO {"server_id":"NA","version":"2.10.7","go":"go1.21.5"}\r\n'


def mongodb(version: bytes) -> bytes:
    """The answer of MongoDB to buildInfo: a message of the kind OP_MSG, its document in BSON."""
    fields = b"\x02version\0" + struct.pack("<i", len(version) + 1) + version + b"\0\x01ok\0" + struct.pack("<d", 1)
    body = struct.pack("<iB", 0, 0) + struct.pack("<i", len(fields) + 5) + fields + b"\0"
    return struct.pack("<iiii", 16 + len(body), 7, 1, 2013) + body


def rabbitmq(version: bytes) -> bytes:
    """How RabbitMQ begins (AMQP 0-9-1 §1.4.2.1, connection.start): the properties of the server in a table."""

    def field(name: bytes, value: bytes) -> bytes:
        return bytes([len(name)]) + name + b"S" + struct.pack(">I", len(value)) + value

    table = field(b"cluster_name", b"quay") + field(b"product", b"RabbitMQ") + field(b"version", version)
    body = struct.pack(">HHBB", 10, 10, 0, 9) + struct.pack(">I", len(table)) + table
    return b"\x01\0\0" + struct.pack(">I", len(body)) + body + b"\xce"


KAFKA = struct.pack(">iih", 20, 7, 0) + bytes(14)
CASSANDRA = bytes([0x84, 0, 0, 0, 6]) + struct.pack(">i", 20) + bytes(20)


@pytest.mark.parametrize(
    "name, version, says, first, verdict, reason",
    [
        ("mysql", ">=8", mysql(b"8.0.36"), True, "met", "8.0.36 is accepted"),
        ("mysql", ">=9", mysql(b"8.0.36-0ubuntu"), True, "unmet", "8.0.36 is too old"),
        ("mariadb", ">=10.6", mysql(b"5.5.5-10.11.6-MariaDB-0+deb12u1"), True, "met", "10.11.6 is accepted"),
        ("mariadb", None, mysql(b"11.4.2-MariaDB-ubu2404"), True, "met", "MariaDB 11.4.2 listens"),
        ("mysql", None, mysql(b"5.5.5-10.11.6-MariaDB"), True, "unmet", "is MariaDB 10.11.6, not mysql"),
        ("mysql", ">=8", b"\x10\0\0\0\xff\x6a\x04Host is blocked", True, "unknown", "it refuses to talk"),
        ("mysql", ">=8", b"SSH-2.0-x\r\n" + bytes(5000), True, "unknown", "its greeting is not that of MySQL"),
        ("mysql", ">=8", b"", True, "unknown", "its greeting is not that of MySQL"),
        ("redis", ">=7", INFO, False, "met", "7.2.4 is accepted"),
        ("redis", ">=7", b"-NOAUTH Authentication required.\r\n", False, "unknown",
            "no version without a password: “NOAUTH"),
        ("redis", None, VALKEY, False, "unmet", "is Valkey 8.0.1, not redis"),
        ("redis", ">=7", b"HTTP/1.1 400 Bad\r\n\r\n", False, "unknown", "its answer is not that of Redis"),
        ("postgres", None, b"N", False, "met", "PostgreSQL listens"),
        ("postgresql", ">=14", b"S", False, "unknown", "it gives its version only after a login; set PGUSER"),
        ("nginx", ">=1.20", b"HTTP/1.1 200 OK\r\nServer: nginx/1.22.1\r\n\r\n", False, "met", "1.22.1 is accepted"),
        ("http", ">=1", b"HTTP/1.1 200 OK\r\nserver: uvicorn\r\n\r\n", False, "unknown",
            "uvicorn does not give its version"),
        ("elasticsearch", ">=8", SEARCH, False, "met", "8.13.4 is accepted"),
        ("memcached", ">=1.6", b"VERSION 1.6.21\r\n", False, "met", "1.6.21 is accepted"),
        ("tide-queue", None, b"hello", True, "unknown", "something listens on 127.0.0.1 port"),
        ("elasticsearch", None, PYTHON, False, "unmet", "is SimpleHTTP 0.6, not elasticsearch"),
        ("elasticsearch", ">=2", OPENSEARCH, False, "unmet", "is OpenSearch 2.11.1, not elasticsearch"),
        ("opensearch", ">=2", OPENSEARCH, False, "met", "2.11.1 is accepted"),
        ("elasticsearch", None, LOCKED, False, "met", "Elasticsearch listens"),
        ("nginx", ">=0.5", PYTHON, False, "unmet", "is SimpleHTTP 0.6, not nginx"),
        ("couchdb", "3", COUCH, False, "met", "3.3.2 is accepted"),
        ("redis", None, b"hello", False, "unknown", "its answer is not that of Redis"),
        ("mongodb", ">=6", mongodb(b"7.0.5"), False, "met", "7.0.5 is accepted"),
        ("mongodb", None, PYTHON, False, "unknown", "its answer is not that of MongoDB"),
        ("rabbitmq", ">=3.12", rabbitmq(b"3.12.1"), False, "met", "3.12.1 is accepted"),
        ("rabbitmq", None, rabbitmq(b"3.12.1").replace(b"RabbitMQ", b"LavinMQx"), False, "unmet", "is LavinMQx 3.12.1"),
        ("nats", ">=2", NATS, True, "met", "2.10.7 is accepted"),
        ("kafka", None, KAFKA, False, "met", "Kafka listens"),
        ("kafka", ">=3", KAFKA, False, "unknown", "Kafka tells nobody its version"),
        ("cassandra", None, CASSANDRA, False, "met", "Cassandra listens"),
        ("cassandra", None, PYTHON, False, "unknown", "its answer is not that of Cassandra"),
        ("tide-queue", ">=1", b"hello", True, "unknown", "does not know the protocol of tide-queue"),
    ],
)  # fmt: skip
def test_a_service_and_what_is_made_of_it(
    world: World, name: str, version: str | None, says: bytes, first: bool, verdict: str, reason: str
) -> None:
    with listener(says, first=first) as port:
        wanted = f'version = "{version}"\n' if version else ""
        world.write({"dokimon.toml": f'format = 1\n[[need]]\nservice = "{name}"\nport = {port}\n{wanted}'})
        (finding,) = world.dokimon("verify", "--format", "json").report["requirements"]
    assert (finding["verdict"], reason in finding["reason"]) == (verdict, True), finding


def test_a_service_that_says_nothing_is_waited_for_a_moment_only(world: World) -> None:
    with listener(b"", first=False, hold=True) as port:
        world.write({"dokimon.toml": f'format = 1\n[[need]]\nservice = "mysql"\nport = {port}\nversion = "8"\n'})
        (finding,) = world.dokimon("verify", "--format", "json", seconds=20).report["requirements"]
    assert finding["verdict"] == "unknown" and "did not greet within 2 seconds" in finding["reason"]


@pytest.mark.parametrize(
    "says, verdict, reason",
    [(b"5.5.5-10.11.6-MariaDB", "met", "mariadb: 10.11.6"), (b"5.7.44", "unmet", "too old"),
        (b"8.0.36", "met", "mysql: 8.0.36")],
)  # fmt: skip
def test_either_of_two_services_will_do(world: World, says: bytes, verdict: str, reason: str) -> None:
    with listener(mysql(says), first=True) as port:
        either = (
            f'{{ service = "mariadb", port = {port}, version = ">=10.6" }}, {{ service = "mysql", port = {port}, '
            f'version = ">=8" }}'
        )
        world.write({"dokimon.toml": f"format = 1\n[[need]]\nany = [{either}]\n"})
        (finding,) = world.dokimon("verify", "--format", "json").report["requirements"]
    assert finding["verdict"] == verdict and reason in finding["reason"], finding
    assert verdict == "met" or len(finding["remedies"]) == 2


def test_postgresql_is_asked_by_its_own_client_where_credentials_are_given(world: World) -> None:
    asks = '[ "$PGPASSWORD" = tide ] && [ -z "$PGHOSTADDR$PGSERVICE" ] && case "$*" in *-w*) echo 16.3;; esac'
    world.tool("psql", asks)
    world.environment |= {"PGUSER": "ferry", "PGPASSWORD": "tide", "PGHOSTADDR": "192.0.2.1", "PGSERVICE": "far"}
    with listener(b"N", first=False) as port:
        world.environment["PGPORT"] = str(port)
        world.write({"dokimon.toml": f'format = 1\n[[need]]\nservice = "postgres"\nport = {port}\nversion = ">=15"\n'})
        (finding,) = world.dokimon("verify", "--format", "json").report["requirements"]
    assert finding["verdict"] == "met" and finding["found"]["version"] == "16.3"


@pytest.mark.parametrize("own", [{}, {"PGPORT": "5432"}, {"PGPORT": "{port}", "PGHOST": "db.saltmarsh.example"}])
def test_a_password_is_not_sent_where_the_checkout_points(world: World, own: dict[str, str]) -> None:
    mark = world.home / "was-run"
    world.tool("psql", f"touch {mark}; echo 16.3")
    with listener(b"N", first=False) as port:
        given = {name: value.format(port=port) for name, value in own.items()}
        world.environment |= {"PGUSER": "ferry", "PGPASSWORD": "tide", **given}
        world.write({"dokimon.toml": f'format = 1\n[[need]]\nservice = "postgres"\nport = {port}\nversion = ">=15"\n'})
        (finding,) = world.dokimon("verify", "--format", "json").report["requirements"]
    assert finding["verdict"] == "unknown" and "not used here" in finding["reason"] and not mark.exists()


@pytest.mark.parametrize(
    "host, addresses",
    [
        ("127.0.0.1", ("127.0.0.1",)), ("127.8.9.1", ("127.8.9.1",)), ("::1", ("::1",)), ("localhost", ("127.0.0.1", "::1")),
        ("::ffff:127.0.0.1", ("::ffff:127.0.0.1",)), ("127.evil.example", ()), ("127.1", ()), ("127.0.0.1.evil.example", ()),
        ("0.0.0.0", ()), ("10.0.0.1", ()), ("localhost.evil.example", ()), ("LOCALHOST", ()), ("", ()), ("::", ()),
        ("2130706433", ()), ("0x7f000001", ()), ("::ffff:10.0.0.1", ()),
    ],
)  # fmt: skip
def test_only_addresses_of_this_machine_are_asked(host: str, addresses: tuple[str, ...]) -> None:
    assert loopback_addresses(host) == addresses


def test_nothing_listens_and_another_machine(world: World, free_port: int) -> None:
    world.write(
        {
            "dokimon.toml": f'format = 1\n[[need]]\nservice = "redis"\nport = {free_port}\n'
            '[[need]]\nservice = "mysql"\nport = 3306\nhost = "127.saltmarsh.example"\n'
        }
    )
    redis, other = world.dokimon("verify", "--format", "json").report["requirements"]
    assert redis["verdict"] == "missing" and f"nothing listens on 127.0.0.1 port {free_port}" in redis["reason"]
    assert other["verdict"] == "unknown" and "is another machine, which is not asked" in other["reason"]


def test_no_more_services_are_asked_than_a_project_has(world: World) -> None:
    """A checkout that declares thousands must not keep anybody waiting."""
    needs = "".join(f'[[need]]\nservice = "smtp"\nport = {port}\n' for port in range(40_000, 40_100))
    world.write({"dokimon.toml": f"format = 1\n{needs}"})
    ended = world.dokimon("verify", "--format", "json")
    told = [each.get("reason", "") for each in ended.report["requirements"]]
    assert len(told) == 100 and sum("was not asked" in each for each in told) == 36
    assert {each["verdict"] for each in ended.report["requirements"] if "not asked" in each["reason"]} <= {"unknown"}
