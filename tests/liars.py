"""A server that lies: it stands before a real one on loopback, and from some answer on does
something else."""

from __future__ import annotations

import contextlib
import socket
import threading
import time
from collections.abc import Iterator

_FIELDS = b"SNOTICE\0VNOTICE\0C00000\0Mhello\0\0"
_NOTICE = b"N" + (4 + len(_FIELDS)).to_bytes(4, "big") + _FIELDS


class Liar:
    """`trick` is what happens at the answer number `at`; `told` is all that clients sent."""

    def __init__(self, server: tuple[str, int], trick: str, at: int) -> None:
        self.server, self.trick, self.at = server, trick, at
        self.told = b""
        self.playing, self.done = threading.Event(), threading.Event()
        self.listener = socket.create_server(("127.0.0.1", 0))
        self.port = self.listener.getsockname()[1]
        threading.Thread(target=self._listen, daemon=True).start()

    def _listen(self) -> None:
        with contextlib.suppress(OSError):
            while True:
                client, _ = self.listener.accept()
                real = socket.create_connection(self.server)
                threading.Thread(target=self._hear, args=(client, real), daemon=True).start()
                threading.Thread(target=self._answer, args=(real, client), daemon=True).start()

    def _hear(self, client: socket.socket, real: socket.socket) -> None:
        with contextlib.suppress(OSError), real:
            while data := client.recv(65536):
                self.told += data
                real.sendall(data)

    def _answer(self, real: socket.socket, client: socket.socket) -> None:
        number = 0
        with contextlib.suppress(OSError), client, real:
            while data := real.recv(65536):
                number += 1
                if number < self.at:
                    client.sendall(data)
                    continue
                self._play(client, data)
                client.shutdown(socket.SHUT_RDWR)
                return

    def _play(self, client: socket.socket, data: bytes) -> None:
        self.playing.set()
        match self.trick:
            case "cut":
                client.sendall(data[: len(data) // 2])
            case "noise":
                client.sendall(bytes((byte * 7 + 13) % 256 for byte in data) or b"?")
            case "silent":
                self.done.wait(60)
            case "drip":
                for byte in data * 100:
                    client.sendall(bytes([byte]))
                    time.sleep(0.3)
            case "notices":
                while not self.done.is_set():
                    client.sendall(_NOTICE * 100)
            case "file":
                client.sendall(_packet(1, b"\xfb/etc/hostname"))
                self.done.wait(2)
            case "clear":
                client.sendall(_packet(2, b"\xfemysql_clear_password\0"))
                self.done.wait(2)


def _packet(number: int, payload: bytes) -> bytes:
    return len(payload).to_bytes(3, "little") + bytes([number]) + payload


@contextlib.contextmanager
def lying(server: tuple[str, int], trick: str, at: int) -> Iterator[Liar]:
    liar = Liar(server, trick, at)
    try:
        yield liar
    finally:
        liar.done.set()
        liar.listener.close()
