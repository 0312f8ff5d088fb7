"""Whether a resolver validates (DNSSEC), and whether its trust anchor is the one of today.

Strategy: it is asked for what is signed and for what is broken on purpose, by the estate's names where it has some, else for
the root's SOA, which is signed wherever public DNS is. AD without having sent it shows that it validates; an answer for a
broken name that it does not; SERVFAIL for everything signed, where checking disabled brings the answer, that its trust anchor
or its clock is wrong. A single signed name that fails is that name's fault.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from salt_mirror.checks.common.test_tree import Judged, row
from salt_mirror.checks.common.wording import together_said
from salt_mirror.checks.resolvers.asking import Validation
from salt_mirror.checks.resolvers.scope import TriedResolver
from salt_mirror.checks.resolvers.wording import ResolverWords
from salt_mirror.dns.names import ROOT, Name, to_text
from salt_mirror.dns.questions import Answer
from salt_mirror.dns.wire import is_authentic


def _bogus_here(answer: Answer, seen: Validation) -> bool:
    """Return whether a resolver fails to validate it: with checking disabled it has an answer."""
    return answer.status == "SERVFAIL" and any(
        one.trouble is None and question[:2] == answer.question[:2] for question, one in seen.unchecked.items()
    )


def validation_test(seen: Validation, tried: TriedResolver, words: ResolverWords, *, echoed: bool) -> Iterator[Judged]:
    """Return what came of it; nothing where nothing was asked. `echoed`: an answer had AD where the question had it too."""
    if not seen.signed and not seen.broken:
        return
    authentic = [one for one in seen.signed if one.trouble is None and is_authentic(one.message)]
    plain = [one for one in seen.signed if one.trouble is None and one not in authentic]
    refused = [one for one in seen.signed if _bogus_here(one, seen)]
    passed = [one for one in seen.broken if one.trouble is None]
    caught = [one for one in seen.broken if _bogus_here(one, seen)]
    if refused and not authentic and not plain:
        yield row("validation", f"fails with {_names(refused)}, which are signed", [words.trust_anchor(refused)])
    elif refused and authentic:
        says = f"{_names(authentic)} came as authentic, and {_names(refused)} failed"
        yield row("validation", says, words.broken_names(refused), mark="ok")
    elif passed:
        findings = [words.no_validation(passed)] if tried.signed or tried.broken else []
        yield row("validation", f"does not validate: {_names(passed)} came in spite of broken signatures", findings)
    elif authentic:
        also = f", and {_names(caught)} failed, as it should" if caught else ""
        yield row("validation", f"validates: {_names(authentic)} came as authentic{also}")
    elif plain and tried.signed:
        yield row("validation", f"does not validate: {_names(plain)} came without AD", [words.no_validation(plain)])
    elif plain and echoed:
        says = (
            "none seen: it sends back the AD bit of a question, and sets none where signatures are asked for without it"
        )
        yield row("validation", says)
    elif plain:
        yield row("validation", f"none seen: {_names(plain)} came without AD")
    else:
        heard = next(iter([*seen.signed, *seen.broken]))
        says = f"not known: {heard.trouble or heard.status}"
        yield row("validation", says, mark="unverified" if tried.signed or tried.broken else "ok")


def _names(answers: Sequence[Answer]) -> str:
    return together_said(dict.fromkeys(_name(one.question.name) for one in answers))


def _name(name: Name) -> str:
    return "the root's SOA" if name == ROOT else to_text(name)
