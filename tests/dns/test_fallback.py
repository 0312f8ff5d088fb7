"""The ladder EDNS, case, cookie, TCP: what follows from a reply or from silence, without a thread or a socket."""

from __future__ import annotations

from dataclasses import dataclass

import pytest

from salt_mirror.dns.replies import Reply
from salt_mirror.dns.traffic.fallback import BADCOOKIE, Next, Ways
from salt_mirror.dns.wire import PLAIN_MIDDLE, QUERY_MIDDLE, cookie_option

OURS, THEIRS = b"saltsalt", b"mirrored"


@dataclass
class Tries:
    plain: bool = False
    case_lost: bool = False
    edns_refused: bool = False
    mac: bytes | None = None


def reply(rcode: int = 0, *, truncated: bool = False, opt: bytes | None = b"") -> Reply:
    return rcode, True, truncated, (), None, None, opt


def cookie(server: bytes = THEIRS, client: bytes = OURS) -> bytes:
    return cookie_option(client + server)


@pytest.mark.parametrize("rcode", [1, 4, 16])
def test_a_server_that_turns_edns_away_is_not_offered_it_again(rcode: int) -> None:
    ways = Ways(OURS)
    tried = Tries()
    assert ways.envelope(plain=False) == (QUERY_MIDDLE, ways.opt)
    assert ways.after(reply(rcode, opt=None), tried, last=False) is Next.PLAIN and tried.edns_refused
    tried.plain = True
    assert ways.after(reply(opt=None), tried, last=False) is Next.END
    assert ways.envelope(plain=False) == (PLAIN_MIDDLE, b"")


def test_a_server_that_answers_only_plain_questions_twice_is_asked_plainly() -> None:
    ways = Ways(OURS)
    for _ in range(2):
        assert ways.knows_edns and ways.after_silence(Tries(), last=False, heard=False) is Next.PLAIN
        ways.after(reply(opt=None), Tries(plain=True), last=False)
    assert not ways.knows_edns


def test_an_error_with_edns_in_it_is_an_answer_and_on_the_last_try_everything_is() -> None:
    assert Ways(OURS).after(reply(1), Tries(), last=False) is Next.END
    assert Ways(OURS).after(reply(1, opt=None), Tries(), last=True) is Next.END


def test_letters_are_sent_in_lower_case_once_a_server_has_lost_their_case_twice() -> None:
    ways = Ways(OURS)
    for _ in range(2):
        assert ways.keeps_case
        tried = Tries(case_lost=True)
        assert ways.after_silence(tried, last=False, heard=False) is Next.PLAIN
        tried.plain = True
        ways.after(reply(opt=None), tried, last=False)
    ways.renew_case()
    assert not ways.keeps_case and b"aBc".translate(ways.case) == b"aBc"


def test_a_reply_without_the_cookie_that_a_server_has_shown_to_have_is_a_stray() -> None:
    ways = Ways(OURS)
    assert ways.after(reply(opt=b""), Tries(), last=False) is Next.END, "no server has to have cookies"
    assert ways.after(reply(opt=cookie()), Tries(), last=False) is Next.END and cookie() in ways.opt
    assert ways.after(reply(opt=b""), Tries(), last=False) is Next.STRAY
    assert ways.after(reply(opt=cookie(client=b"stranger")), Tries(), last=False) is Next.STRAY
    assert ways.after(reply(opt=None), Tries(plain=True), last=False) is Next.END, (
        "a plain question has none to give back"
    )


def test_a_new_cookie_is_taken_and_the_question_asked_again_with_it() -> None:
    ways = Ways(OURS)
    ways.after(reply(opt=cookie()), Tries(), last=False)
    again = cookie(b"renewed!")
    assert ways.after(reply(BADCOOKIE, opt=again), Tries(), last=False) is Next.SAME and again in ways.opt
    assert ways.after(reply(BADCOOKIE, opt=again), Tries(), last=True) is Next.END


def test_what_is_cut_short_and_the_last_try_at_a_server_that_was_heard_go_over_tcp() -> None:
    ways = Ways(OURS)
    assert ways.after(reply(truncated=True), Tries(), last=False) is Next.STREAM
    assert ways.after_silence(Tries(), last=True, heard=True) is Next.STREAM
    assert ways.after_silence(Tries(), last=True, heard=False) is Next.SAME
    assert Ways(OURS).after_silence(Tries(), last=False, heard=False) is Next.PLAIN
    assert Ways(OURS).after_silence(Tries(mac=b"m"), last=False, heard=False) is Next.SAME, (
        "a signed question stays whole"
    )
