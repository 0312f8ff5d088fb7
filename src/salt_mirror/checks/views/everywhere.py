"""One name as everybody gets it: each view by its own servers, each resolver by what it gives, grouped by what they say.

Strategy: what a view says is what its servers agree on; a resolver follows the view whose values it gives, and is told by
itself, with how long it will go on, where it gives what no view has. Whoever gave no usable answer follows nobody.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

from salt_mirror.checks.ask.judging import Asked, TypeAnswer
from salt_mirror.checks.common.wording import duration, together_said
from salt_mirror.dns.questions import Server
from salt_mirror.dns.records import rdata_text, type_text

Values = tuple[bytes, ...]


def everywhere_said(asked: Asked, views: Mapping[str, Sequence[Server]]) -> Iterator[str]:
    """Return a sentence for each type: who says what. `views` are the authoritative servers of each view."""
    for rdtype in asked.rdtypes:
        told = {one.server: one for one in asked.at(rdtype)}
        if any(one.values for one in told.values()):
            yield f"{type_text(rdtype)}: {'; '.join(_parts(told, views, rdtype))}"


def _parts(told: Mapping[Server, TypeAnswer], views: Mapping[str, Sequence[Server]], rdtype: int) -> Iterator[str]:
    in_views = {server for servers in views.values() for server in servers}
    by_view: dict[str, Values] = {}
    for view, servers in views.items():
        usable = [told[server] for server in servers if server in told and told[server].usable]
        said = {one.values for one in usable}
        if len(said) == 1:
            by_view[view] = usable[0].values
            yield f"{view or 'authoritative'}: {_what(usable[0], rdtype)}"
        elif said:
            yield f"{view or 'authoritative'}: {_divided(usable, rdtype)}"
        else:
            yield f"{view or 'authoritative'}: no usable answer"
    following: dict[str, list[str]] = {}
    silent: list[str] = []
    of_no_view: dict[str, list[TypeAnswer]] = {}
    for server, answer in told.items():
        if server in in_views:
            continue
        followed = [view for view, values in by_view.items() if values == answer.values]
        if not answer.usable:
            silent.append(server.label)
        elif followed:
            following.setdefault(together_said(followed), []).append(server.label)
        else:
            of_no_view.setdefault(_what(answer, rdtype), []).append(answer)
    for whom, labels in following.items():
        yield f"{together_said(labels)} {'follows' if len(labels) == 1 else 'follow'} {whom or 'them'}"
    for what, members in of_no_view.items():
        left = [one.ttl for one in members if one.ttl is not None and one.from_cache]
        more = f" for {'up to ' if len(members) > 1 else ''}another {duration(max(left))}" if left else ""
        whose = (
            f"{together_said(one.server.label for one in members)}{' only' if len(members) == 1 else ', as no view'}"
        )
        yield f"{whose}: {what}{more}"
    if silent:
        yield f"{together_said(silent)}: no usable answer"


def _what(answer: TypeAnswer, rdtype: int) -> str:
    return ", ".join(rdata_text(rdtype, value) for value in answer.values) or answer.denial or "nothing"


def _divided(usable: Sequence[TypeAnswer], rdtype: int) -> str:
    groups: dict[Values, list[TypeAnswer]] = {}
    for answer in usable:
        groups.setdefault(answer.values, []).append(answer)
    return " and ".join(
        f"{_what(members[0], rdtype)} ({together_said(one.server.label for one in members)})"
        for members in groups.values()
    )
