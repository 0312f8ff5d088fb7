"""The resolvers that this computer is set to, by themselves: whether each answers, over TCP too, and leaves a "no" as it is."""

from __future__ import annotations

from salt_mirror.checks.common.test_tree import Judged, Mark, Test, worst
from salt_mirror.checks.common.wording import many
from salt_mirror.checks.from_here.asking import Heard, HereSeen, said_by
from salt_mirror.checks.from_here.scope import HereScope, Typed, WayResolver
from salt_mirror.checks.from_here.wording import HereWords, over_of
from salt_mirror.dns.dialogue import Dialogue
from salt_mirror.dns.names import ROOT, from_text
from salt_mirror.dns.questions import Question
from salt_mirror.dns.records import SOA, A
from salt_mirror.findings import Finding

_LOCALHOST = from_text("localhost")


def judged_resolvers(scope: HereScope, stranger: bytes) -> Dialogue[Judged]:
    """Try every resolver that this computer is set to: with a name of its own, and with one that nobody has."""
    found = [(one, scope.server_of(one)) for one in scope.settings.everywhere]
    stations = [WayResolver(one, server) for one, server in found if server is not None]
    nobody = bytes((len(stranger),)) + stranger + from_text("invalid")
    zone = next((zone.apex for zone in scope.estate.all_zones() if scope.view in (None, zone.view)), None)
    asked = [(zone, SOA) if zone is not None else (_LOCALHOST, A), (nobody, A)]
    batch = [Question(name, rdtype, one.server, True) for one in stations for name, rdtype in asked]
    streamed = [one for one in stations if one.server.over == "udp"]
    batch += [Question(*asked[0], scope.atlas.sibling(one.server, "tcp"), True) for one in streamed]
    answers = (yield batch) if batch else []
    streams = dict(zip((one.server for one in streamed), answers[len(stations) * 2 :], strict=True))
    heard = []
    for number, station in enumerate(stations):
        row = answers[number * 2 : number * 2 + 2]
        made_up = [row[1]] if row[1].trouble is None and (row[1].values or row[1].alias is not None) else []
        heard.append(Heard(station, said_by(row), row, streams.get(station.server), made_up))
    return _judged(heard, scope)


def _judged(heard: list[Heard], scope: HereScope) -> Judged:
    typed = Typed("", [ROOT], (A,))
    words = HereWords(HereSeen(typed, ROOT, None, None, heard, [], []), scope)
    rows, findings = [], []
    for number, one in enumerate(heard):
        came = any(answer.came for answer in one.answers)
        told: list[Finding] = []
        if one.made_up:
            told = [words.made_up(one)]
        elif one.unasked:
            pass
        elif not came:
            before = not any(any(answer.came for answer in other.answers) for other in heard[:number])
            told = [words.dead(one, waited_for=before)]
        elif one.no_stream:
            told = [words.no_stream(one)]
        times = [answer.rtt_ms for answer in one.answers if answer.rtt_ms is not None]
        says = (
            f"answers in {min(times):.1f} ms over {over_of(one)}" if times else one.said.trouble or "nothing came back"
        )
        mark: Mark = worst(finding.weight for finding in told)
        if mark == "ok" and one.unasked:
            mark = "unverified"
        title = f"resolver {one.station.server.label} ({one.station.configured.place})"
        rows.append(Test(mark=mark, title=title, says=says))
        findings += told
    sound = sum(row.mark == "ok" for row in rows)
    says = f"{sound} of {many(len(rows), 'resolver')} that this computer is set to answer as they should"
    return Judged(Test(mark=worst(row.mark for row in rows), title="resolvers", says=says, tests=rows), findings)
