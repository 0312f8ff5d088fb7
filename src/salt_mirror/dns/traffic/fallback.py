"""What is known of one server's ways, and what follows from that: the ladder EDNS, case, cookie, TCP.

Strategy: pure. A server's replies and its silence come in, the next step goes out; nothing is sent, timed or read here, so
that every rung can be tried by itself. What has been learnt holds for the server, what has been tried for the question.
"""

from __future__ import annotations

import os
from enum import Enum
from typing import Protocol

from salt_mirror.dns.replies import Reply
from salt_mirror.dns.traffic.chance import random_case
from salt_mirror.dns.wire import cookie_in, cookie_option, middles, opt_record

BADCOOKIE = 23
_REFUSES_EDNS = frozenset((1, 4, 16))
"""FORMERR, NOTIMP, BADVERS: how servers turn EDNS away (RFC 6891 section 7)."""
_ENOUGH = 2
"""So often something has to be shown before it is taken for the server's way."""
_AS_IT_IS = bytes(range(256))


def refuses_edns(reply: Reply) -> bool:
    """Return whether a reply is one with which servers turn EDNS away."""
    return reply[0] in _REFUSES_EDNS and reply[6] is None


class Next(Enum):
    """What to do next with a question."""

    END = "the reply is the answer"
    STREAM = "ask again over TCP"
    SAME = "ask again in the same way, with what was learnt"
    PLAIN = "ask again without EDNS, in lower case"
    STRAY = "the datagram is no reply to it"


class Attempts(Protocol):
    """What has been tried for one question (a Flight)."""

    plain: bool
    case_lost: bool
    edns_refused: bool
    mac: bytes | None


class Ways:
    """The ways of one server, as far as they have shown. `case` gives letters the case of the next questions."""

    __slots__ = (
        "_cookie",
        "_lost_case",
        "_plain_heard",
        "_signed",
        "_unchecked",
        "case",
        "edns_seen",
        "has_cookie",
        "keeps_case",
        "knows_edns",
        "opt",
    )

    def __init__(self, cookie: bytes | None = None, *, unchecked: bool = False, signed: bool = False) -> None:
        """`cookie` are our own 8 bytes (RFC 7873 section 4), random ones when left out; `unchecked` has CD set in each
        question, `signed` DO in place of AD."""
        self._unchecked, self._signed = unchecked, signed
        self._cookie = cookie or os.urandom(8)
        self._lost_case = 0
        self._plain_heard = 0
        self.case = _AS_IT_IS
        self.edns_seen = False
        self.has_cookie = False
        # A try in another case that comes back changed is made again without EDNS, and so without signatures.
        self.keeps_case = not signed
        self.knows_edns = True
        self.opt = opt_record(options=cookie_option(self._cookie), signed=signed)

    def renew_case(self) -> None:
        """Draw another case for the letters, for a server that keeps it."""
        self.case = random_case() if self.keeps_case else _AS_IT_IS

    def envelope(self, *, plain: bool) -> tuple[dict[bool, bytes], bytes]:
        """Return what stands around a question: the header behind the id, by whether recursion is desired, and the OPT
        record."""
        plain = plain or not self.knows_edns
        return middles(plain=plain, unchecked=self._unchecked, signed=self._signed), b"" if plain else self.opt

    def holds(self, opt: bytes | None, tried: Attempts) -> bool:
        """Return whether a reply has our cookie, if it has to; the server's is kept for the next question (RFC 7873 section
        5.3)."""
        cookie = cookie_in(opt) if opt else None
        if cookie is None:
            return not self.has_cookie or tried.plain
        if not cookie.startswith(self._cookie) or len(cookie) < 16:
            return False
        self.keep(cookie)
        return True

    def keep(self, cookie: bytes) -> None:
        """Keep a cookie with our own in it, for the next question."""
        if not self.has_cookie or cookie not in self.opt:
            self.has_cookie = True
            self.opt = opt_record(options=cookie_option(cookie), signed=self._signed)

    def after(self, reply: Reply, tried: Attempts, *, last: bool) -> Next:
        """Return the step after a reply; `last` when no try is left. What the reply shows of the server is learnt."""
        rcode, truncated, opt = reply[0], reply[2], reply[6]
        if not self.holds(opt, tried):
            return Next.STRAY
        if opt is not None:
            self.edns_seen = True
        if truncated:
            return Next.STREAM
        if rcode == BADCOOKIE and self.has_cookie and not last:
            return Next.SAME
        if rcode in _REFUSES_EDNS and not tried.plain and opt is None and not last:
            tried.edns_refused = True
            return Next.PLAIN
        if tried.plain and self.knows_edns and rcode not in _REFUSES_EDNS:
            self._learn(tried)
        return Next.END

    def after_silence(self, tried: Attempts, *, last: bool, heard: bool) -> Next:
        """Return the step after a wait in vain; `last` when the next try is the last one, `heard` that the server has answered
        something before."""
        if last and heard:
            return Next.STREAM
        if tried.case_lost or tried.edns_refused:
            return Next.PLAIN
        # Silence alone never costs the signatures that were asked for: what comes without them would accuse a slow server.
        if not self.edns_seen and tried.mac is None and not last and not self._signed:
            return Next.PLAIN
        return Next.SAME

    def _learn(self, tried: Attempts) -> None:
        """Remember of a server that it answers only plain questions, once it has shown so often enough."""
        if tried.case_lost:
            self._lost_case += 1
            if self._lost_case >= _ENOUGH:
                self.keeps_case = False
                self.case = _AS_IT_IS
        elif not self.edns_seen:
            self._plain_heard += 2 if tried.edns_refused else 1
            if self._plain_heard >= _ENOUGH:
                self.knows_edns = False
