"""A message as mail (RFC 5322), over SMTP (RFC 5321) with TLS where the estate says so (RFC 3207, RFC 8314).

Strategy: a name or a text that came from the network can only be in the subject and the body; both are cleaned of line ends,
and the library refuses what would still end a header.
"""

from __future__ import annotations

import smtplib
import ssl
from email.message import EmailMessage
from email.policy import SMTP
from email.utils import format_datetime, make_msgid

from salt_mirror.estate.notify import Channel, MailEntry, secret_in
from salt_mirror.notify.trouble import PATIENCE_S, Undelivered
from salt_mirror.notify.trust import tls_context, tls_trouble
from salt_mirror.report.document import now
from salt_mirror.report.json.notice import Notice

_PORTS = {"tls": 465, "starttls": 587, "": 25}


def check(channel: Channel) -> None:
    """Raise BadInput for a password or certificates that are not there."""
    entry = _entry(channel)
    if entry.user:
        _password(channel)
    tls_context(channel, entry.ca_file)


def written(channel: Channel, notice: Notice) -> str:
    """Return the mail, with its headers."""
    message = _message(channel, notice)
    message.set_content(_body(notice), charset="utf-8", cte="8bit")  # as it is read; it travels encoded
    return message.as_string(policy=SMTP.clone(linesep="\n", cte_type="8bit", utf8=True))


def send(channel: Channel, notice: Notice) -> None:
    """Send the mail. Raises Undelivered."""
    entry = _entry(channel)
    message = _message(channel, notice)
    way = "tls" if entry.tls else "starttls" if entry.starttls else ""
    port = entry.port or _PORTS[way]
    where = f"{entry.server}, port {port}"
    try:
        context = tls_context(channel, entry.ca_file)
        if entry.tls:
            server: smtplib.SMTP = smtplib.SMTP_SSL(entry.server, port, timeout=PATIENCE_S, context=context)
        else:
            server = smtplib.SMTP(entry.server, port, timeout=PATIENCE_S)
        with server:
            if entry.starttls:
                server.starttls(context=context)
            if entry.user:
                server.login(entry.user, _password(channel))
            refused = server.send_message(message)
    except smtplib.SMTPRecipientsRefused as error:
        raise Undelivered(f"{where}: refuses every recipient: {_first(error.recipients)}") from None
    except smtplib.SMTPAuthenticationError as error:
        raise Undelivered(f"{where}: refuses the user {entry.user} ({error.smtp_code})") from None
    except smtplib.SMTPResponseException as error:
        raise Undelivered(f"{where}: {error.smtp_code} {_text(error.smtp_error)}") from None
    except smtplib.SMTPNotSupportedError:
        raise Undelivered(f"{where}: the server does not offer what is wanted (STARTTLS, or a log-in)") from None
    except smtplib.SMTPException as error:
        raise Undelivered(f"{where}: {_text(error) or type(error).__name__}") from None
    except ssl.SSLError as error:
        raise Undelivered(f"{where}: {tls_trouble(error)}") from None
    except OSError as error:
        raise Undelivered(f"{where}: {error.strerror or error}") from None
    if refused:
        raise Undelivered(f"{where}: refuses {len(refused)} of the recipients: {_first(refused)}", partly=True)


def _entry(channel: Channel) -> MailEntry:
    assert isinstance(channel.way, MailEntry)
    return channel.way


def _password(channel: Channel) -> str:
    entry = _entry(channel)
    return secret_in(channel.folder, entry.password_file, entry.password_env, f"notify, {channel.name}: mail")


def _message(channel: Channel, notice: Notice) -> EmailMessage:
    entry = _entry(channel)
    message = EmailMessage(policy=SMTP)
    message["Subject"] = notice.says
    message["From"] = entry.sender
    message["To"] = entry.to if isinstance(entry.to, str) else ", ".join(entry.to)
    message["Date"] = format_datetime(now())
    message["Message-ID"] = make_msgid(domain=entry.sender.rpartition("@")[2])
    # No reply of a machine is wanted: RFC 3834, section 5.
    message["Auto-Submitted"] = "auto-generated"
    message.set_content(_body(notice), charset="utf-8")
    return message


def _body(notice: Notice) -> str:
    return "\n".join(notice.lines) + "\n"


def _first(refused: dict[str, tuple[int, bytes]]) -> str:
    """Return the first recipient that a server refuses, with its words."""
    who, (code, said) = next(iter(refused.items()))
    return f"{who} ({code} {_text(said)})"


def _text(said: object) -> str:
    text = said.decode("utf-8", "replace") if isinstance(said, bytes) else str(said)
    return " ".join(text.split())
