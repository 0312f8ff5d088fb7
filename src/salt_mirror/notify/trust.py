"""Whom a message is sent to over TLS: the system's certificates, and those that a channel names."""

from __future__ import annotations

import ssl

from salt_mirror.estate.errors import BadInput
from salt_mirror.estate.notify import Channel


def tls_trouble(error: ssl.SSLError) -> str:
    """Return why a connection over TLS was not made, in words."""
    why = error.verify_message if isinstance(error, ssl.SSLCertVerificationError) else error.reason
    return f"no TLS: {why or 'it was cut off'}"


def tls_context(channel: Channel, ca_file: str) -> ssl.SSLContext:
    """Return a context that verifies the peer's certificate and name. Raises BadInput for a file without certificates."""
    context = ssl.create_default_context()
    if ca_file:
        try:
            context.load_verify_locations(channel.path(ca_file))
        except (OSError, ssl.SSLError):
            raise BadInput(f"notify, {channel.name}: ca_file: {ca_file} has no certificates that can be read") from None
    return context
