"""A server that speaks HTTP/2 alone: `python http2_only.py PORT STATUS [MESSAGE]`, MESSAGE that of its health, in hex."""

import socket
import sys
import time
from contextlib import suppress

import h2.connection
import h2.events

PORT, STATUS, MESSAGE = int(sys.argv[1]), sys.argv[2], bytes.fromhex("".join(sys.argv[3:]))
REFUSAL = b"An HTTP/1.x request was sent to an HTTP/2 only endpoint."


def serve(client: socket.socket) -> None:
    first = client.recv(65536)
    if not first.startswith(b"PRI * HTTP/2.0"):
        client.sendall(b"HTTP/1.1 400 X\r\nContent-Length: %d\r\nConnection: close\r\n\r\n" % len(REFUSAL) + REFUSAL)
        return
    link = h2.connection.H2Connection(h2.config.H2Configuration(client_side=False))
    link.initiate_connection()
    while first:
        while STATUS == "drips":  # a frame now and then, and never an answer
            link.ping(b"8 octets")
            client.sendall(link.data_to_send())
            time.sleep(0.2)
        for event in link.receive_data(first):
            if isinstance(event, h2.events.RequestReceived):
                answer(link, event.stream_id, dict(event.headers)[b":path"])
        client.sendall(link.data_to_send())
        first = client.recv(65536)


def answer(link: h2.connection.H2Connection, stream: int, path: bytes) -> None:
    if b"Health" not in path:
        link.send_headers(stream, [(":status", STATUS)], end_stream=True)
    elif MESSAGE:
        link.send_headers(stream, [(":status", "200"), ("content-type", "application/grpc")])
        link.send_data(stream, b"\0" + len(MESSAGE).to_bytes(4, "big") + MESSAGE, end_stream=True)
    else:
        link.send_headers(stream, [(":status", "200"), ("grpc-status", "12")], end_stream=True)


server = socket.create_server(("127.0.0.1", PORT))
print(f"listening on http://127.0.0.1:{server.getsockname()[1]}", flush=True)
while True:
    accepted, _ = server.accept()
    with accepted:
        accepted.settimeout(5)
        with suppress(OSError):
            serve(accepted)
