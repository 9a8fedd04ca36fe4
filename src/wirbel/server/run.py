"""One process of the web server: ``python -m wirbel.server.run PORT``. Several share a port.

Python runs one thread at a time, so a long question would keep senders and other people waiting
in its own process. The kernel spreads connections over all processes that listen on the port.
"""

from __future__ import annotations

import socket
import sys

import uvicorn

HOST = "127.0.0.1"
LAST_WORDS_S = 3  # for requests under way when the server is stopped


def listen(port: int) -> socket.socket:
    listener = socket.socket()
    listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEPORT, 1)
    listener.bind((HOST, port))
    return listener


def main() -> None:
    config = uvicorn.Config("wirbel.server.asgi:application", log_level="warning", server_header=False, timeout_graceful_shutdown=LAST_WORDS_S)
    uvicorn.Server(config).run(sockets=[listen(int(sys.argv[1]))])


if __name__ == "__main__":
    main()
