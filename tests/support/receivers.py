"""Receivers of messages on loopback: a mail server, a web server and collectors of syslog, each with the ways of bad ones."""

from __future__ import annotations

import contextlib
import socket
import ssl
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any

from aiosmtpd.controller import Controller
from aiosmtpd.smtp import SMTP, AuthResult, Envelope, Session

from support.realservers import free_port


class Mailroom:
    """A mail server; `way` is how it behaves."""

    def __init__(self, way: str = "") -> None:
        self.way = way
        self.mails: list[bytes] = []
        self.users: list[bytes] = []
        self.secured: list[bool] = []

    async def handle_RCPT(self, server: SMTP, session: Session, envelope: Envelope, address: str, _: list[str]) -> str:
        if self.way == "refuses" or (self.way == "refuses one" and address.startswith("night")):
            return "550 5.1.1 no such \x1b[2J mailbox"
        envelope.rcpt_tos.append(address)
        return "250 OK"

    async def handle_DATA(self, server: SMTP, session: Session, envelope: Envelope) -> str:
        if self.way == "dies":
            assert server.transport is not None
            server.transport.abort()  # type: ignore[attr-defined]
        assert isinstance(envelope.content, bytes)
        self.mails.append(envelope.content)
        self.secured.append(session.ssl is not None)
        return "451 4.3.0 later" if self.way == "later" else "250 OK"

    def authenticate(self, server: SMTP, session: Session, envelope: Envelope, mechanism: str, data: Any) -> AuthResult:
        self.users.append(data.login)
        return AuthResult(success=data.password == b"brine-and-salt", handled=False)


@contextmanager
def mail_server(room: Mailroom, certificate: ssl.SSLContext | None = None) -> Iterator[int]:
    """Run it, and give its port; with a certificate it offers STARTTLS, and wants it before a log-in."""
    controller = Controller(
        room, "127.0.0.1", free_port(), tls_context=certificate, authenticator=room.authenticate,
        auth_require_tls=certificate is not None,
    )  # fmt: skip
    controller.start()
    try:
        yield controller.port
    finally:
        controller.stop()


class Hook:
    """A web server that takes messages; `way` is how it answers."""

    def __init__(self, way: str = "") -> None:
        self.way = way
        self.paths: list[str] = []
        self.bodies: list[bytes] = []
        self.stop = threading.Event()


@contextmanager
def web_server(hook: Hook, certificate: ssl.SSLContext | None = None) -> Iterator[int]:
    """Run it, and give its port."""

    class Handler(BaseHTTPRequestHandler):
        def do_POST(self) -> None:
            body = self.rfile.read(int(self.headers["Content-Length"]))
            hook.paths.append(self.path)
            hook.bodies.append(body)
            with contextlib.suppress(OSError):
                self._answer()

        def _answer(self) -> None:
            if hook.way == "drips":
                while not hook.stop.wait(0.05):
                    self.wfile.write(b"H" if not self.wfile.closed else b"")
                return
            if hook.way == "redirect":
                self.send_response(302)
                self.send_header("Location", "http://127.0.0.1:1/stolen")
                self.end_headers()
                return
            if hook.way == "garbage":
                self.wfile.write(b"\x00\xff\x1b[2J no HTTP\r\n\r\n")
                return
            self.send_response(500 if hook.way == "fails" else 200)
            self.end_headers()
            while hook.way == "endless" and not hook.stop.is_set():
                self.wfile.write(b"x" * 65_536)

        def log_message(self, *_: object) -> None:
            pass

    server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    server.daemon_threads = True
    if certificate is not None:
        server.socket = certificate.wrap_socket(server.socket, server_side=True)
    thread = threading.Thread(target=server.serve_forever, daemon=True)
    thread.start()
    try:
        yield server.server_address[1]
    finally:
        hook.stop.set()
        server.shutdown()
        server.server_close()


@contextmanager
def collector(kind: str, certificate: ssl.SSLContext | None = None) -> Iterator[tuple[int, list[bytes]]]:
    """A collector of syslog over udp or tcp (with a certificate, TLS): its port, and what came; over TCP one piece a stream."""
    datagrams = kind == "udp"
    got: list[bytes] = []
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM if datagrams else socket.SOCK_STREAM) as listening:
        listening.bind(("127.0.0.1", 0))
        if not datagrams:
            listening.listen()

        def serve() -> None:
            with contextlib.suppress(OSError):
                while True:
                    if datagrams:
                        got.append(listening.recv(65_536))
                        continue
                    plain, _ = listening.accept()
                    with certificate.wrap_socket(plain, server_side=True) if certificate else plain as stream:
                        whole = b""
                        with contextlib.suppress(OSError):
                            while piece := stream.recv(65_536):
                                whole += piece
                        got.append(whole)

        threading.Thread(target=serve, daemon=True).start()
        yield listening.getsockname()[1], got
