"""A message posted to a URL, as the document, as text, or by a template.

Strategy: a template sees the document with every text cleaned, in Jinja2's sandbox, and what it makes is bounded; a template of
JSON has to make JSON. The URL may be a secret: nothing but its scheme and host is ever shown. Of an answer only the status
counts; a redirect is not followed, since it would lead a message, and a secret, to somebody else.
"""

from __future__ import annotations

import html
import re
from importlib.resources import files
from urllib.parse import urlsplit

import httpx
import jinja2
import msgspec
from jinja2.sandbox import ImmutableSandboxedEnvironment

from salt_mirror.estate.errors import BadInput
from salt_mirror.estate.notify import Channel, WebhookEntry, secret_in
from salt_mirror.estate.reading import read_text
from salt_mirror.notify.trouble import PATIENCE_S, Undelivered
from salt_mirror.notify.trust import tls_context
from salt_mirror.report.cleaning import clean_lines
from salt_mirror.report.files.marking import marked
from salt_mirror.report.json.notice import Notice

_MOST_WRITTEN = 256 * 1024
"""So many characters a template may make."""
_MOST_READ = 64 * 1024
"""So many bytes of an answer are read."""
_TEMPLATES = files("salt_mirror.notify") / "templates"
_NARROW = "\u200b"
"""A space of no width (ZERO WIDTH SPACE): it parts what a chat would take for a mention or a link."""


def check(channel: Channel) -> None:
    """Raise BadInput for a URL or a template that is none."""
    _url(channel)
    tls_context(channel, _entry(channel).ca_file)
    if _entry(channel).kind not in ("json", "text"):
        _template(channel)


def written(channel: Channel, notice: Notice) -> str:
    """Return what is posted. Raises Undelivered for a template that fails or makes no JSON."""
    kind = _entry(channel).kind
    if kind == "json":
        return msgspec.json.encode(notice).decode("utf-8")
    if kind == "text":
        return "\n".join([notice.says, "", *notice.lines]) + "\n"
    try:
        pieces, length = [], 0
        for piece in _template(channel).generate(msgspec.to_builtins(notice)):
            pieces.append(piece)
            length += len(piece)
            if length > _MOST_WRITTEN:
                raise Undelivered(f"the template {kind} makes more than {_MOST_WRITTEN:,} characters")
    except (jinja2.TemplateError, TypeError, ValueError, ArithmeticError, RecursionError) as error:
        raise Undelivered(f"the template {kind} fails: {error}") from None
    text = "".join(pieces).strip()
    if _is_json(kind):
        try:
            msgspec.json.decode(text)
        except msgspec.DecodeError as error:
            raise Undelivered(f"the template {kind} makes no JSON: {error}") from None
    return text


def send(channel: Channel, notice: Notice) -> None:
    """Post it. Raises Undelivered for any answer but a success."""
    entry, url = _entry(channel), _url(channel)
    form = "application/json" if _is_json(entry.kind) else "text/plain; charset=utf-8"
    body, where = written(channel, notice).encode("utf-8"), _shown(url)
    context = tls_context(channel, entry.ca_file)
    try:
        with (
            httpx.Client(timeout=PATIENCE_S, follow_redirects=False, verify=context, trust_env=False) as client,
            client.stream(
                "POST", url, content=body, headers={"Content-Type": form, "User-Agent": "salt-mirror"}
            ) as answer,
        ):
            read = 0
            for piece in answer.iter_raw():
                read += len(piece)
                if read > _MOST_READ:
                    break
    except httpx.TimeoutException:
        raise Undelivered(f"{where}: no answer within {PATIENCE_S:g} s") from None
    except (httpx.HTTPError, httpx.InvalidURL, UnicodeError) as error:
        why = str(error) if isinstance(error, httpx.ConnectError) else "the answer is no HTTP"
        raise Undelivered(f"{where}: {why.replace(url, where)}") from None
    if answer.is_redirect:
        raise Undelivered(f"{where}: answers with a redirect ({answer.status_code}), which is not followed")
    if not answer.is_success:
        raise Undelivered(f"{where}: answers with {answer.status_code}")


def _entry(channel: Channel) -> WebhookEntry:
    assert isinstance(channel.way, WebhookEntry)
    return channel.way


def _is_json(kind: str) -> bool:
    return kind != "text" and not kind.endswith(".txt.j2")


def _url(channel: Channel) -> str:
    """Return where it is posted. Raises BadInput, which does not show it."""
    entry, place = _entry(channel), f"notify, {channel.name}: webhook"
    url = entry.url or secret_in(channel.folder, entry.url_file, "", place)
    try:
        parts = urlsplit(url)
        sound = parts.scheme in ("http", "https") and bool(parts.hostname) and parts.port != 0
    except ValueError:
        sound = False
    if not sound:
        raise BadInput(
            f"{place}: what {entry.url_file or 'url'} holds is no URL; expected one that begins with https://"
        )
    return url


def _shown(url: str) -> str:
    """Return as much of a URL as is no secret."""
    parts = urlsplit(url)
    return f"{parts.scheme}://{parts.hostname}" + (f":{parts.port}" if parts.port else "")


def _template(channel: Channel) -> jinja2.Template:
    """Return the template of a channel: one of ours, or the file that it names. Raises BadInput."""
    kind = _entry(channel).kind
    environment = ImmutableSandboxedEnvironment(
        autoescape=False, undefined=jinja2.StrictUndefined, trim_blocks=True, lstrip_blocks=True
    )
    environment.filters |= {"marked": _marked, "unlinked": _unlinked, "entities": _entities}
    ours = _TEMPLATES / f"{kind}.json.j2"
    text = read_text(channel.path(kind)) if kind.endswith(".j2") else ours.read_text(encoding="utf-8")
    try:
        return environment.from_string(text)
    except jinja2.TemplateError as error:
        line = getattr(error, "lineno", None)
        raise BadInput(
            f"notify, {channel.name}: webhook: {kind}{f', line {line}' if line else ''}: {error.message or 'is no template'}"
        ) from None


def _marked(text: object) -> str:
    """Return text of several lines whose characters mean nothing in Markdown."""
    return "\n".join(map(marked, str(text).split("\n")))


def _unlinked(text: object) -> str:
    """Return text in which a chat finds no mention, no channel and no link."""
    return re.sub(r"([@#]|:(?=//)|<(?=[@!#]))", rf"\1{_NARROW}", clean_lines(str(text)))


def _entities(text: object) -> str:
    """Return text with entities in the place of &, < and >."""
    return html.escape(str(text), quote=False)
