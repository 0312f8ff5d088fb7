"""`--notify` and `salt-mirror notify`: what is kept for the next run, what is held back, and what is never shown."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterator
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

import pytest

from salt_mirror.standin.authority import read_zone
from salt_mirror.standin.server import StandIn
from support.estates import Served
from support.program import Run
from support.receivers import Hook, web_server

ZONE = "@ 60 SOA ns h {serial} 7200 1800 1209600 60\n@ 60 NS ns\nns 60 A 192.0.2.1\n"
TOKEN = "T0ken-Of-The-Salt"
CALL = ("rollcall", "--quiet", "--history", "h.db", "--notify")


class Site:
    """A zone of one server in which hosts are expected, with channels that report to a web server and to a file."""

    def __init__(self, server: StandIn, folder: Path, port: int) -> None:
        self.folder = folder
        self._server = server
        self._serial = 1
        (folder / "hosts.csv").write_text("name,type,value\nkiln,A,192.0.2.7\npress,A,192.0.2.8\n", encoding="utf-8")
        (folder / "url").write_text(f"http://127.0.0.1:{port}/services/{TOKEN}", encoding="utf-8")
        estate = folder / "estate.toml"
        self.text = estate.read_text(encoding="utf-8").replace('view = "public"', 'expect = ["hosts.csv"]')
        self.channels('file = "sent.jsonl"')
        self.hold("kiln", "press")

    def channels(self, duty: str) -> None:
        """Write the estate with its channels."""
        more = f'\n[notify.duty]\n{duty}\n[notify.web]\nwebhook = {{ url_file = "url" }}\n'
        (self.folder / "estate.toml").write_text(f'title = "Gullmarsh"\n{self.text}{more}', encoding="utf-8")

    def hold(self, *hosts: str) -> None:
        """The zone has these hosts."""
        self._serial += 1
        lines = {"kiln": "kiln 60 A 192.0.2.7\n", "press": "press 60 A 192.0.2.8\n"}
        text = ZONE.format(serial=self._serial) + "".join(lines[host] for host in hosts)
        self._server.authority.hold(read_zone(text, "salt.invalid"))

    @property
    def sent(self) -> list[dict[str, Any]]:
        """What the file got."""
        path = self.folder / "sent.jsonl"
        return [json.loads(line) for line in path.read_text(encoding="utf-8").splitlines()] if path.exists() else []


@pytest.fixture
def hook() -> Hook:
    return Hook()


@pytest.fixture
def site(served: Served, tmp_path: Path, hook: Hook) -> Iterator[Site]:
    (server,) = served("salt.invalid", ZONE.format(serial=1))
    with web_server(hook) as port:
        yield Site(server, tmp_path, port)


def test_a_message_that_fails_is_in_the_next_one_and_changes_no_verdict(run: Run, site: Site, hook: Hook) -> None:
    assert run(*CALL, "web").status == 0 and hook.bodies == []  # what stands at the beginning is old
    hook.way = "fails"
    site.hold("press")
    lost = run(*CALL, "web")
    assert lost.status == 1 and "notify, web: not delivered, and sent again with the next run: " in lost.err
    site.hold("kiln")
    never = run(*CALL, "web", "--fail-on", "never")
    assert never.status == 5 and "answers with 500" in never.err
    listed = run("notify", "--history", "h.db").out
    looked = run("history", "h.db", "--check", "--at-least-every", "1h", "--json")
    assert "not delivered since" in listed and looked.status == 0  # a caution
    assert [one["code"] for one in looked.document["findings"]] == ["run.undelivered"]
    hook.way, hook.bodies[:] = "", []
    assert run(*CALL, "web").status == 1
    (message,) = [json.loads(body) for body in hook.bodies]
    assert [one["name"] for one in message["new"]] == ["press.salt.invalid."]
    assert [one["name"] for one in message["passed"]] == ["kiln.salt.invalid."]
    assert any(line.startswith("No message could be delivered since ") for line in message["lines"])
    assert run(*CALL, "web").status == 1 and len(hook.bodies) == 1  # and nothing twice
    tried = run("notify", "--test", "web", "--estate", "estate.toml")
    shown = [lost, never, tried, run("notify"), run("notify", "--preview", "web")]
    assert not [one for one in shown if TOKEN in one.out + one.err]
    assert TOKEN.encode() not in (site.folder / "h.db").read_bytes()
    assert hook.paths[-1] == f"/services/{TOKEN}" and json.loads(hook.bodies[-1])["sample"] is True


def test_a_run_that_fails_is_told_once_and_that_it_runs_again(run: Run, site: Site) -> None:
    run(*CALL, "duty")
    hosts = (site.folder / "hosts.csv").read_text(encoding="utf-8")
    for _ in range(3):
        (site.folder / "hosts.csv").unlink()
        assert run(*CALL, "duty").status == 2
        (site.folder / "hosts.csv").write_text(hosts, encoding="utf-8")
    assert [one["says"] for one in site.sent] == ["Gullmarsh: the run failed"]
    assert "hosts.csv" in site.sent[0]["failed"]["why"]
    assert run(*CALL, "duty").status == 0
    assert (
        site.sent[1]["says"] == "Gullmarsh: runs again after 3 failed runs" and site.sent[1]["runs_again"]["times"] == 3
    )
    site.text = f"nonsense = 3\n{site.text}"
    site.channels('file = "sent.jsonl"')
    assert run(*CALL, "duty").status == 2  # the estate itself is wrong, and its channels are found all the same
    assert "unknown key" in site.sent[2]["failed"]["why"]


def test_a_first_run_that_fails_leaves_what_is_open_old(run: Run, site: Site) -> None:
    """A channel begins with the run before its first one, and one without a result is none."""
    site.hold("press")
    hosts = (site.folder / "hosts.csv").read_text(encoding="utf-8")
    (site.folder / "hosts.csv").unlink()
    assert run(*CALL, "duty").status == 2 and len(site.sent) == 1
    (site.folder / "hosts.csv").write_text(hosts, encoding="utf-8")
    assert run(*CALL, "duty").status == 1  # the host was missing all the time
    assert [one["says"] for one in site.sent[1:]] == ["Gullmarsh: runs again after 1 failed run"]
    site.hold()
    assert run(*CALL, "duty").status == 1 and [one["name"] for one in site.sent[2]["new"]] == ["press.salt.invalid."]


def test_a_missed_run_is_told_once_until_another_is_missed(run: Run, site: Site) -> None:
    run(*CALL, "duty")
    check = ("history", "h.db", "--check", "--at-least-every", "1d", "--notify", "duty")
    assert run(*check).status == 0 and site.sent == []
    for day in ("01", "02"):
        with sqlite3.connect(site.folder / "h.db") as history:
            history.execute(f"UPDATE runs SET started = '2026-01-{day}T00:00:00+00:00'")
        assert [run(*check).status for _ in range(2)] == [1, 1]
    assert [one["new"][0]["code"] for one in site.sent] == ["run.missed", "run.missed"]


def test_what_quiet_hours_hold_back_is_sent_when_they_are_over(run: Run, site: Site) -> None:
    now = datetime.now()
    begin, end = (f"{now + timedelta(hours=hours):%H:%M}" for hours in (-2, 2))
    site.channels(f'file = "sent.jsonl"\nquiet = "{begin}-{end}"')
    run(*CALL, "duty")
    site.hold("press")
    assert run(*CALL, "duty").status == 1 and site.sent == []
    assert run("notify", "--held", "duty", "--history", "h.db").out == "Nothing was sent to duty.\n"
    preview = json.loads(run("notify", "--preview", "duty", "--history", "h.db").out)
    assert [one["name"] for one in preview["new"]] == ["kiln.salt.invalid."]
    site.channels('file = "sent.jsonl"\nat_most = "1 a day"')
    assert run("notify", "--held", "duty", "--history", "h.db").out == "1 sent to duty.\n"
    assert [one["name"] for one in site.sent[0]["new"]] == ["kiln.salt.invalid."]
    site.hold("kiln", "press")
    assert run(*CALL, "duty").status == 0 and len(site.sent) == 1  # one a day is enough
    assert run("notify", "--preview", "duty", "--history", "h.db").document["gone"]
    with sqlite3.connect(site.folder / "h.db") as history:  # a day later
        history.execute("UPDATE channels SET sent = '[]'")
    assert run("notify", "--held", "duty", "--history", "h.db").status == 0 and site.sent[1]["gone"]


def test_a_watch_says_that_all_have_it_or_that_the_time_is_over(run: Run, site: Site) -> None:
    for address, outcome in (("192.0.2.7", "agrees"), ("192.0.2.9", "differs")):
        done = run("settle", "kiln.salt.invalid", "A", "--to", address, "--within", "1s", "--notify", "duty")
        assert done.status == (outcome != "agrees")
        assert site.sent[-1]["watch"]["outcome"] == outcome and site.sent[-1]["says"].startswith(
            "Gullmarsh: kiln.salt.invalid"
        )
    assert len(site.sent) == 2


@pytest.mark.parametrize(
    ("words", "why"),
    [
        (("rollcall", "--notify", "duty"), "what is new is only known from a history"),
        ((*CALL, "dutty"), 'there is no channel "dutty"; did you mean "duty"?'),
        (("notify", "--test", "duty", "--preview", "duty"), "one of them"),
        (("notify", "--held", "duty"), "--history FILE"),
        (("settle", "kiln", "A", "--notify", "none-such"), "there is no channel"),
        (("schedule", "--every", "7m"), "divides no hour"),
        (("schedule", "--every", "soon"), "expected night"),
        (("schedule", "--print", "windows", "--install"), "--install: not for windows"),
        (("schedule", "--notify", "none-such"), "there is no channel"),
    ],
)
def test_what_cannot_be_is_refused_before_anything_is_asked(
    run: Run, site: Site, words: tuple[str, ...], why: str
) -> None:
    done = run(*words)
    assert done.status == 2 and why in done.err and done.out == ""
