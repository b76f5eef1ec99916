"""Stands in for a server that is silent, then listens, and takes a moment to answer: `late.py SILENT ANSWERS`."""

import socket
import sys
import time

time.sleep(float(sys.argv[1]))
server = socket.create_server(("127.0.0.1", 0))
while True:
    link, _ = server.accept()
    time.sleep(float(sys.argv[2]))
    link.recv(4000)
    link.sendall(b"HTTP/1.1 200 OK\r\nContent-Type: text/plain\r\nContent-Length: 4\r\nConnection: close\r\n\r\nhigh")
    link.close()
