"""Runs that behave oddly, each in a way of its own, to see what is made of them: `odd.py BEHAVIOUR PORT`."""

import os
import socket
import sys
import threading
import time

behaviour, port = sys.argv[1], int(sys.argv[2])


def serve(answer, family=socket.AF_INET, address="127.0.0.1", times=None):
    """Answer each who comes with the same bytes (or with what a function makes of the request), `times` at most."""
    with socket.create_server((address, port), family=family) as server:
        while times is None or times > 0:
            times = None if times is None else times - 1
            link, _ = server.accept()
            with link:
                request = link.recv(4096)
                link.sendall(answer(request) if callable(answer) else answer)


def write(name, text):
    with open(name, "a") as file:
        file.write(text)


def read(name):
    with open(name) as file:
        return file.read()


PAGE = b"<!doctype html><title>Odd</title><p>An odd quay"
OK = b"HTTP/1.1 200 OK\r\nContent-Type: text/html\r\nConnection: close\r\nContent-Length: %d\r\n\r\n%s" % (
    len(PAGE),
    PAGE,
)

if behaviour == "dies-when-up":
    threading.Thread(target=serve, args=(OK,), daemon=True).start()
    write("quay.pid", str(os.getpid()))
    while not os.path.exists("go.mark"):  # somebody says when
        time.sleep(0.02)
    sys.exit("the tide took it")
elif behaviour == "answers-then-hangs":
    serve(OK, times=1)
    with socket.create_server(("127.0.0.1", port)):
        time.sleep(60)
elif (
    behaviour == "restarts"
):  # as a development server does when it finds its files changed: it becomes another process
    if os.environ.get("AGAIN") is None:
        with socket.create_server(("127.0.0.1", port)):
            time.sleep(0.1)
        os.environ["AGAIN"] = "1"
        os.execv(sys.executable, [sys.executable, *sys.argv])
    serve(OK)
elif behaviour == "closes-its-output":
    os.close(1)
    os.close(2)
    serve(OK)
elif behaviour == "no-newline":
    sys.stdout.write("the quay is ready> ")
    sys.stdout.flush()
    time.sleep(60)
elif behaviour == "never-answers":
    with socket.create_server(("127.0.0.1", port)):
        time.sleep(60)
elif behaviour == "half-a-response":
    serve(b"HTTP/1.1 200 OK\r\nContent-Type: text/html\r\nContent-Length: 5000\r\n\r\n<!doctype html><title>Ha")
elif behaviour == "redirects-for-ever":
    serve(b"HTTP/1.1 302 Found\r\nLocation: /again\r\nContent-Length: 0\r\nConnection: close\r\n\r\n")
elif behaviour == "ipv6-only":
    serve(OK, socket.AF_INET6, "::1")
elif behaviour == "unix-only":
    with socket.socket(socket.AF_UNIX) as server:
        server.bind("quay.sock")
        server.listen()
        time.sleep(60)
elif behaviour == "ignores-all":
    import signal

    for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
        signal.signal(number, signal.SIG_IGN)
    serve(OK)
elif behaviour == "daemon":
    if os.fork() == 0:
        os.setsid()
        if os.fork() == 0:
            serve(OK)
        os._exit(0)
elif behaviour == "prints-much":
    line = b"high water at Gannet Point, low water at Heron Quay\n" * 20_000
    for _ in range(15):  # about 15 MB
        os.write(1, line)
    print("the last tide")
elif behaviour == "asks-the-terminal":
    print(
        f"terminal: {sys.stdin.isatty()} {sys.stdout.isatty()} {sys.stderr.isatty()} {os.get_terminal_size().columns}",
        flush=True,
    )
    for key in sys.stdin:
        print(f"got {key.strip()}", flush=True)
        if key.strip() == "q":
            print("bye", flush=True)
            break
elif behaviour == "keys":
    print("ready for keys", flush=True)
    for key in sys.stdin:
        write("keys", key)
        print(f"got {key.strip()}", flush=True)
        if key.strip() == "q":
            sys.exit(0)
elif behaviour == "secrets":
    print(f"the key is {os.environ['TIDE_API_KEY']}, the place {os.environ['TIDE_PLACE']}", flush=True)
    sys.exit(1)
elif behaviour == "makes-a-file":
    time.sleep(0.5)
    write("up.mark", "up")
    time.sleep(60)
elif behaviour == "slow-to-be-healthy":
    started = time.monotonic()
    bad = b"HTTP/1.1 503 Not yet\r\nContent-Length: 0\r\nConnection: close\r\n\r\n"
    serve(lambda request: OK if time.monotonic() - started > 1 else bad)
elif behaviour == "warns":
    print("DeprecationWarning: the old pier is deprecated\nwarning: low tide\nall is well")
elif behaviour == "error-stream":
    print("to the one", flush=True)
    print("to the other", file=sys.stderr, flush=True)
elif behaviour == "lingers":  # a child lives on when the command has ended
    import subprocess

    subprocess.Popen([sys.executable, "-c", "import time; time.sleep(60)"], start_new_session=True)
elif behaviour in ("kills-its-warden", "stops-its-warden"):
    import signal
    import subprocess

    wait = ["-c", "import time; time.sleep(300)", f"quay-child-{port}"]
    for _ in range(3):
        subprocess.Popen([sys.executable, *wait], start_new_session=True)
        if os.fork() == 0:  # a daemon
            os.setsid()
            if os.fork() == 0:
                os.execv(sys.executable, [sys.executable, *wait])
            os._exit(0)
    number = signal.SIGKILL if behaviour.startswith("kills") else signal.SIGSTOP

    def turn_on_it():
        time.sleep(1)
        above = os.getppid()
        while "warden.py" not in read(f"/proc/{above}/cmdline"):
            above = int(read(f"/proc/{above}/stat").rpartition(")")[2].split()[1])
        os.kill(above, number)

    threading.Thread(target=turn_on_it).start()
    if number == signal.SIGKILL:
        time.sleep(300)
    serve(OK)
elif behaviour == "becomes-another-user":
    if os.fork() == 0:
        os.setsid()
        os.setuid(65534)
        os.execv("/bin/sleep", [f"quay-child-{port}", "300"])
    serve(OK)
elif behaviour == "hides-processes":
    import subprocess

    subprocess.Popen(
        [sys.executable, "-c", "import time; time.sleep(60)", f"quay-child-{port}"], start_new_session=True
    )
    subprocess.run(["/bin/mount", "-t", "tmpfs", "none", "/proc"], check=True)
    serve(OK)
