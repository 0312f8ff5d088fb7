"""Messages over real mail, web and syslog servers, to programs and files: sound ones, bad ones, and hostile values in each."""

from __future__ import annotations

import email
import email.policy
import json
import re
import ssl
import sys
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path

import pytest
import trustme
from msgspec.structs import replace

from salt_mirror.checks.audit.news import NOTHING_NEW, EndingAcceptance, FailedRuns, Occurrence
from salt_mirror.estate.errors import BadInput
from salt_mirror.estate.file import parse_estate
from salt_mirror.estate.notify import Channel, channel_of
from salt_mirror.notify import mail, syslog, webhook
from salt_mirror.notify.delivery import check, deliver, written
from salt_mirror.notify.trouble import Undelivered
from salt_mirror.report.json.notice import Notice
from salt_mirror.report.message import Told, notice_of
from support.large import findings
from support.receivers import Hook, Mailroom, collector, mail_server, web_server
from support.waiting import until

AT = datetime(2026, 11, 30, 2, 30, tzinfo=UTC)
EVIL = "kiln\r\nBcc: thief@salt.invalid\r\n\r\n<script>alert(1)</script>\x1b[2J\x9b31m\u202e @everyone <!channel> <@U1> *b* http://x"
FOUND = list(findings(3))[80:]


def notice(text: str = "") -> Notice:
    """A message with a finding, whose words are hostile where a text is given."""
    finding = replace(FOUND[0], text=text, view=text, cause=text) if text else FOUND[0]
    news = NOTHING_NEW._replace(new=[Occurrence("one", finding, AT), Occurrence("two", FOUND[1], AT)])
    if text:
        ending = EndingAcceptance(code="pair.*", name=text, reason=text, until="2026-12-01", over=False)
        news = news._replace(ending=[ending], failed=FailedRuns(first=AT, times=2, why=text))
    return notice_of("duty", news, Told(text or "Gullmarsh Saltworks", "estate.toml", "audit", text, AT))


def channel(folder: Path, text: str) -> Channel:
    path = folder / "estate.toml"
    return channel_of("duty", parse_estate(f"[notify.duty]\n{text}\n", path).notify["duty"], path)


@pytest.fixture(autouse=True)
def less_patience(monkeypatch: pytest.MonkeyPatch) -> None:
    """A peer that stalls is given up early; no test asserts when."""
    for module in (mail, webhook, syslog):
        monkeypatch.setattr(module, "PATIENCE_S", 3.0)


@pytest.fixture
def certificate(tmp_path: Path) -> Iterator[ssl.SSLContext]:
    """A certificate for 127.0.0.1, and `ca.pem` to trust."""
    authority = trustme.CA()
    authority.cert_pem.write_to_path(tmp_path / "ca.pem")
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    authority.issue_cert("127.0.0.1").configure_cert(context)
    yield context


def mail_channel(folder: Path, port: int, more: str = "", to: str = '"dns@gullmarsh.example"') -> Channel:
    return channel(
        folder, f'mail = {{ to = {to}, from = "mirror@gullmarsh.example", server = "127.0.0.1", port = {port}{more} }}'
    )


def test_mail_comes_with_a_subject_that_is_the_answer_over_starttls_and_a_log_in(
    tmp_path: Path, certificate: ssl.SSLContext
) -> None:
    (tmp_path / "password").write_text("brine-and-salt\n", encoding="utf-8")
    room = Mailroom()
    with mail_server(room, certificate) as port:
        secure = ', starttls = true, user = "mirror", password_file = "password"'
        deliver(mail_channel(tmp_path, port, f'{secure}, ca_file = "ca.pem"'), notice())
        with pytest.raises(Undelivered, match=r"no TLS: .*issuer certificate"):
            deliver(mail_channel(tmp_path, port, secure), notice())
        (tmp_path / "password").write_text("wrong", encoding="utf-8")
        with pytest.raises(Undelivered, match=r"refuses the user mirror \(535\)") as refused:
            deliver(mail_channel(tmp_path, port, f'{secure}, ca_file = "ca.pem"'), notice())
    assert "wrong" not in str(refused.value) and room.users[0] == b"mirror" and room.secured == [True]
    told = email.message_from_bytes(room.mails[0], policy=email.policy.default)
    assert told["Subject"] == "Gullmarsh Saltworks: 2 new faults" and told["Auto-Submitted"] == "auto-generated"
    assert "has no PTR record (pair.no-pointer)" in told.get_content()
    with pytest.raises(BadInput, match="a password is only sent over TLS"):
        mail_channel(tmp_path, 25, ', user = "mirror", password_file = "password"')


@pytest.mark.parametrize(
    ("way", "why"),
    [
        ("refuses", r"refuses every recipient: .* \(550 5.1.1 no such \?\[2J mailbox\)"),
        ("refuses one", "refuses 1 of the recipients: night@gullmarsh.example"),
        ("later", "451 4.3.0 later"),
        ("dies", "Connection unexpectedly closed|reset"),
    ],
)
def test_a_mail_server_that_refuses_or_dies_is_told_with_its_words_cleaned(tmp_path: Path, way: str, why: str) -> None:
    with mail_server(Mailroom(way)) as port, pytest.raises(Undelivered, match=why) as refused:
        both = '["dns@gullmarsh.example", "night@gullmarsh.example"]'
        deliver(mail_channel(tmp_path, port, to=both), notice())
    assert refused.value.partly == (way == "refuses one") and "\x1b" not in str(refused.value)


def test_a_peer_that_says_nothing_is_given_up(tmp_path: Path) -> None:
    with collector("tcp") as (port, _):  # it takes what comes, and has no word
        with pytest.raises(Undelivered, match="timed out"):
            deliver(mail_channel(tmp_path, port), notice())
        with pytest.raises(Undelivered, match="no answer within 3 s"):
            deliver(channel(tmp_path, f'webhook = {{ url = "http://127.0.0.1:{port}/" }}'), notice())
    with web_server(Hook("drips")) as port, pytest.raises(Undelivered, match=r"longer than 2 s|no HTTP"):
        deliver(channel(tmp_path, f'webhook = {{ url = "http://127.0.0.1:{port}/" }}'), notice(), longest_s=2)


def test_a_webhook_gets_the_document_the_text_or_what_a_template_makes(
    tmp_path: Path, certificate: ssl.SSLContext
) -> None:
    (tmp_path / "own.json.j2").write_text('{"t": {{ says | tojson }}, "n": {{ new | length }}}', encoding="utf-8")
    hook = Hook()
    with web_server(hook, certificate) as port:
        (tmp_path / "url").write_text(f"https://127.0.0.1:{port}/services/s3cret\n", encoding="utf-8")
        for kind in ("json", "text", "chat-text", "chat-content", "own.json.j2"):
            text = f'webhook = {{ url_file = "url", kind = "{kind}", ca_file = "ca.pem" }}'
            deliver(channel(tmp_path, text), notice())
    whole, plain, one, two, own = (body.decode("utf-8") for body in hook.bodies)
    assert set(hook.paths) == {"/services/s3cret"} and json.loads(whole)["schema"] == "salt-mirror/notice/1"
    assert plain.startswith("Gullmarsh Saltworks: 2 new faults\n\nNEW FAULTS: 2\n- ")
    assert json.loads(own) == {"t": "Gullmarsh Saltworks: 2 new faults", "n": 2}
    assert json.loads(one)["text"].startswith("Gullmarsh Saltworks: 2 new faults\nNEW FAULTS: 2")
    assert "works\\-00" not in json.loads(two)["content"] and "NEW FAULTS: 2" in json.loads(two)["content"]


@pytest.mark.parametrize(
    ("way", "why"),
    [
        ("fails", "answers with 500"),
        ("redirect", "answers with a redirect"),
        ("garbage", "the answer is no HTTP"),
        ("", ""),
    ],
)
def test_of_a_webhooks_answer_only_success_counts_and_its_url_is_never_shown(
    tmp_path: Path, way: str, why: str
) -> None:
    with web_server(Hook(way)) as port:
        (tmp_path / "url").write_text(f"http://127.0.0.1:{port}/services/s3cret", encoding="utf-8")
        one = channel(tmp_path, 'webhook = { url_file = "url" }')
        if way:
            with pytest.raises(Undelivered, match=f"http://127.0.0.1:{port}: {why}") as refused:
                deliver(one, notice())
            assert "s3cret" not in str(refused.value)
    with pytest.raises(Undelivered) as refused:  # it is gone
        deliver(one, notice())
    assert "s3cret" not in str(refused.value) and "stolen" not in str(refused.value)


def test_an_answer_without_end_is_not_read_to_its_end(tmp_path: Path) -> None:
    hook = Hook("endless")
    with web_server(hook) as port:
        deliver(channel(tmp_path, f'webhook = {{ url = "http://127.0.0.1:{port}/" }}'), notice())
    assert len(hook.bodies) == 1


@pytest.mark.parametrize(
    ("template", "why"),
    [
        ("{{ says.__class__.__mro__ }}", "fails: access to attribute"),
        ("{% for a in range(99999) %}{% for b in range(99999) %}xxxxxxxxxx{% endfor %}{% endfor %}", "makes more than"),
        ("{{ nothing_such }}", "fails: 'nothing_such' is undefined"),
        ("{{ says }}", "makes no JSON"),
        ("{{ 1 / 0 }}", "fails"),
    ],
)
def test_a_template_is_kept_in_its_box(tmp_path: Path, template: str, why: str) -> None:
    (tmp_path / "own.json.j2").write_text(template, encoding="utf-8")
    one = channel(tmp_path, 'webhook = { url = "https://chat.salt.invalid/", kind = "own.json.j2" }')
    check(one)
    with pytest.raises(Undelivered, match=re.escape(why)):
        written(one, notice())
    (tmp_path / "own.json.j2").write_text("{{ broken", encoding="utf-8")
    with pytest.raises(BadInput, match=r"own.json.j2, line 1"):
        check(one)


def test_syslog_lines_are_those_of_the_rfc_over_udp_tcp_and_tls(tmp_path: Path, certificate: ssl.SSLContext) -> None:
    line = re.compile(r"<(\d+)>1 2026-11-30T02:30:00Z \S+ salt-mirror \d+ (\w+) - \ufeff(.*)")
    for kind, context in (("udp", None), ("tcp", None), ("tls", certificate)):
        with collector(kind.replace("tls", "tcp"), context) as (port, got):
            text = f'syslog = {{ address = "{kind}://127.0.0.1:{port}", facility = "local3", ca_file = "ca.pem" }}'
            deliver(channel(tmp_path, text), notice())
            until(lambda: len(got) >= (3 if kind == "udp" else 1))  # noqa: B023
            lines = list(got)
        if kind != "udp":  # octet counting: RFC 6587, section 3.4.1
            stream, lines = lines[0], []
            while stream:
                length, _, rest = stream.partition(b" ")
                lines.append(rest[: int(length)])
                stream = rest[int(length) :]
        parts = [match.groups() for one in lines if (match := line.fullmatch(one.decode("utf-8")))]
        assert [(priority, kind) for priority, kind, _ in parts] == [("155", "summary"), ("155", "new"), ("155", "new")]
        assert parts[0][2] == "Gullmarsh Saltworks: 2 new faults" and parts[1][2].startswith("pair.no-pointer rake-")
    with pytest.raises(Undelivered, match=r"tcp://127.0.0.1:\d+: "):
        deliver(channel(tmp_path, f'syslog = {{ address = "tcp://127.0.0.1:{port}" }}'), notice())
    with pytest.raises(BadInput, match=r"is no address; expected such as 192\.0\.2\.5"):
        check(channel(tmp_path, 'syslog = { address = "udp://here:there" }'))


def test_a_program_gets_the_document_and_may_fail(tmp_path: Path) -> None:
    keeps = "import sys; open('got.json', 'w', encoding='utf-8').write(sys.stdin.read())"
    deliver(channel(tmp_path, f"command = {json.dumps([sys.executable, '-c', keeps])}"), notice())
    assert (
        json.loads((tmp_path / "got.json").read_text(encoding="utf-8"))["says"] == "Gullmarsh Saltworks: 2 new faults"
    )
    fails = "import sys; sys.exit('no \\x1b[2J line')"
    with pytest.raises(Undelivered, match=r"ended with status 1: no \?\[2J line"):
        deliver(channel(tmp_path, f"command = {json.dumps([sys.executable, '-c', fails])}"), notice())
    with pytest.raises(BadInput, match="there is no program no-such"):
        check(channel(tmp_path, 'command = ["no-such"]'))


def test_hostile_values_mean_nothing_in_any_medium(tmp_path: Path) -> None:
    evil = notice(EVIL)
    (tmp_path / "own.txt.j2").write_text('{{ lines | join("\n") }}', encoding="utf-8")
    room, hook = Mailroom(), Hook()
    with mail_server(room) as port:
        deliver(mail_channel(tmp_path, port), evil)
    told = email.message_from_bytes(room.mails[0], policy=email.policy.default)
    assert told["Bcc"] is None and told["To"] == "dns@gullmarsh.example" and told.get_content_type() == "text/plain"
    texts = [str(told["Subject"]), told.get_content()]
    with web_server(hook) as port:
        for kind in ("json", "text", "chat-text", "chat-content", "own.txt.j2"):
            deliver(channel(tmp_path, f'webhook = {{ url = "http://127.0.0.1:{port}", kind = "{kind}" }}'), evil)
    bodies = [body.decode("utf-8") for body in hook.bodies]
    chats = [json.loads(bodies[2])["text"], json.loads(bodies[3])["content"]]
    for chat in chats:
        assert "@\u200beveryone" in chat and "@?" not in chat
        assert not re.search(r"@(everyone|U1)|<[!@]|(?<!\\)<script|://", chat), chat
    assert "*b*" not in chats[1] and "&lt;script&gt;" in chats[0]
    with collector("udp") as (port, got):
        deliver(channel(tmp_path, f'syslog = {{ address = "127.0.0.1:{port}" }}'), evil)
        until(lambda: len(got) >= 3)
    texts += [one.decode("utf-8").replace("\ufeff", "") for one in got]
    deliver(channel(tmp_path, 'file = "lines.jsonl"'), evil)
    line = (tmp_path / "lines.jsonl").read_text(encoding="utf-8")
    assert len(line.splitlines()) == 1
    for text in [*texts, *bodies, line, *json.loads(line)["lines"]]:
        assert not re.search("[\x00-\x09\x0b-\x1f\x7f-\x9f\u202e]", text.replace("\r\n", "\n")), repr(text)
        assert "\nBcc:" not in text and "\\nBcc:" not in text
