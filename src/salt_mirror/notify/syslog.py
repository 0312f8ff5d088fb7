"""A message as lines for a syslog collector (RFC 5424), over UDP (RFC 5426), TCP with octet counting (RFC 6587, section 3.4.1),
TLS (RFC 5425) or a local socket.

Strategy: the subject is one line, and so is each finding, so that a search finds its code and its name. There is no structured
data: its names would want a number of our own.
"""

from __future__ import annotations

import contextlib
import os
import re
import socket
import ssl
from collections.abc import Iterator

from salt_mirror.dns.system import parse_endpoint
from salt_mirror.estate.errors import BadInput
from salt_mirror.estate.notify import FACILITIES, Channel, SyslogEntry
from salt_mirror.notify.trouble import PATIENCE_S, Undelivered
from salt_mirror.notify.trust import tls_context, tls_trouble
from salt_mirror.report.json.notice import Notice, NoticeItem

_ERROR, _WARNING, _NOTICE, _INFO = 3, 4, 5, 6
"""Severities (RFC 5424, section 6.2.1)."""
_LONGEST = 2_000
"""A receiver should take 2,048 octets (RFC 5424, section 6.1); what is longer is cut."""
_MOST_LINES = 200
_PORTS = {"udp": 514, "tcp": 601, "tls": 6514}


def check(channel: Channel) -> None:
    """Raise BadInput for an address that is none."""
    _target(channel)
    tls_context(channel, _entry(channel).ca_file)


def written(channel: Channel, notice: Notice) -> str:
    """Return the lines, each as it is sent."""
    return "\n".join(line.decode("utf-8").replace("\ufeff", "") for line in _lines(channel, notice)) + "\n"


def send(channel: Channel, notice: Notice) -> None:
    """Send the lines. Raises Undelivered; over UDP nobody says whether they arrived."""
    scheme, host, port = _target(channel)
    lines = list(_lines(channel, notice))
    where = host if scheme == "local" else f"{scheme}://{host}:{port}"
    try:
        if scheme == "local":
            _send_locally(host, lines)
        elif scheme == "udp":
            family, kind, protocol, _, address = socket.getaddrinfo(host, port, type=socket.SOCK_DGRAM)[0]
            with socket.socket(family, kind, protocol) as datagrams:
                datagrams.connect(address)
                for line in lines:
                    datagrams.send(line)
        else:
            with socket.create_connection((host, port), timeout=PATIENCE_S) as plain:
                frames = b"".join(b"%d %b" % (len(line), line) for line in lines)
                if scheme == "tls":
                    context = tls_context(channel, _entry(channel).ca_file)
                    with context.wrap_socket(plain, server_hostname=host) as secured:
                        secured.sendall(frames)
                        with contextlib.suppress(OSError):  # many collectors close without a word
                            secured.unwrap()
                else:
                    plain.sendall(frames)
                    # A collector that resets the connection has not taken what it did not read; one that waits has.
                    plain.shutdown(socket.SHUT_WR)
                    with contextlib.suppress(TimeoutError):
                        plain.recv(1)
    except ssl.SSLError as error:
        raise Undelivered(f"{where}: {tls_trouble(error)}") from None
    except OSError as error:
        raise Undelivered(f"{where}: {error.strerror or error}") from None


def _send_locally(path: str, lines: list[bytes]) -> None:
    if not hasattr(socket, "AF_UNIX"):
        raise Undelivered("this system has no local sockets; name a collector by its address")
    with socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM) as local:
        local.connect(path)
        for line in lines:
            local.send(line)


def _entry(channel: Channel) -> SyslogEntry:
    assert isinstance(channel.way, SyslogEntry)
    return channel.way


def _target(channel: Channel) -> tuple[str, str, int]:
    """Return how and where a collector is reached. Raises BadInput."""
    text = _entry(channel).address
    if text.startswith("/"):
        return "local", text, 0
    scheme, _, rest = text.rpartition("://")
    scheme = scheme or "udp"
    match = re.fullmatch(r"(\[[0-9A-Fa-f:.]+\]|[A-Za-z0-9.-]+)(?::(\d{1,5}))?", rest)
    try:
        if match is None:
            address, _ = parse_endpoint(rest)  # an IPv6 address without brackets
            return scheme, socket.inet_ntop(socket.AF_INET6, address), _PORTS[scheme]
        port = int(match[2] or _PORTS[scheme])
        if 0 < port < 65_536:
            return scheme, match[1].strip("[]"), port
    except (ValueError, KeyError, OSError):
        pass
    raise BadInput(
        f"notify, {channel.name}: syslog: {text} is no address; expected such as 192.0.2.5, tcp://192.0.2.5:601, "
        "tls://logs.example:6514 or /dev/log"
    )


def _lines(channel: Channel, notice: Notice) -> Iterator[bytes]:
    """Return the lines: the subject, then a line for each finding."""
    bad = notice.failed is not None or any(one.weight == "fault" for one in notice.new)
    yield _line(channel, notice, _ERROR if bad else _WARNING if notice.new else _NOTICE, "summary", notice.says)
    kinds: list[tuple[str, list[NoticeItem], int]] = [
        ("new", notice.new, _ERROR),
        ("gone", notice.gone, _INFO),
        ("passed", notice.passed, _NOTICE),
        ("flapping", notice.flapping, _WARNING),
        ("calm", notice.calm, _NOTICE),
        ("unverified", notice.unverified, _WARNING),
        ("verified", notice.verified, _INFO),
    ]
    items = [(word, one, severity) for word, found, severity in kinds for one in found]
    for word, one, severity in items[:_MOST_LINES]:
        grave = severity if one.weight == "fault" or severity != _ERROR else _WARNING
        where = f"view {one.view}" if one.view else "no view"
        yield _line(
            channel, notice, grave, word, f"{one.code} {one.name} {one.address or one.type} ({where}): {one.text}"
        )
    if len(items) > _MOST_LINES:
        yield _line(channel, notice, _INFO, "summary", f"{len(items) - _MOST_LINES:,} more findings are in the report")


def _line(channel: Channel, notice: Notice, severity: int, kind: str, text: str) -> bytes:
    """Return a line (RFC 5424, section 6): every character but the begin's is of ours, or cleaned."""
    priority = FACILITIES[_entry(channel).facility] * 8 + severity
    host = re.sub(r"[^!-~]", "", socket.gethostname())[:255] or "-"
    head = f"<{priority}>1 {notice.started:%Y-%m-%dT%H:%M:%SZ} {host} salt-mirror {os.getpid()} {kind} - "
    line = head.encode("ascii") + "\ufeff".encode() + text.encode("utf-8")
    return line if len(line) <= _LONGEST else line[:_LONGEST].decode("utf-8", "ignore").encode("utf-8")
