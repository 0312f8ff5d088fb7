"""Everything that is said about views: one method for each finding, with what each view says and what would mend it."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping

from salt_mirror.checks.common.lookup import Lookup, evidence_of
from salt_mirror.checks.common.proposing import changed
from salt_mirror.checks.common.wording import answers_of, state
from salt_mirror.checks.views.scope import ViewsScope
from salt_mirror.dns.names import Name, to_text
from salt_mirror.dns.questions import Answer, Server
from salt_mirror.dns.records import AAAA, CNAME, SOA, TARGET_AT, A, rdata_text, soa_fields, type_text
from salt_mirror.dns.reverse import address_text
from salt_mirror.dns.special import is_private
from salt_mirror.estate.model import Zone
from salt_mirror.findings import Choice, Finding

Sets = Mapping[int, frozenset[bytes]]


class ViewWords:
    """The findings about one name."""

    def __init__(self, name: Name, scope: ViewsScope) -> None:
        self.name = name
        self._scope = scope

    @property
    def _text(self) -> str:
        return to_text(self.name)

    def not_same(self, sides: list[tuple[str, Sets]]) -> Finding:
        """It has to be the same in some views, and is not."""
        text = f"{self._text} has to be equal in {_listed(view for view, _ in sides)}, and is not: {_sides(sides)}."
        return state("view.not-same", text, name=self.name, rdtype=_first_type(sides))

    def hidden(self, view: str, public: str, sets: Sets) -> Finding:
        """People inside get a no for what the world has, since their own zone of that name stands before the world's."""
        zone = self._scope.estate.zone_of(self.name, view)
        assert zone is not None
        cause = f"{to_text(zone.apex)} of the view {view} hides the public zone, and lacks its records"
        text = f"{self._text} is in the view {public} ({_said(sets)}), and not in {view} (NXDOMAIN or NODATA)."
        changes = [
            changed(self.name, rdtype, "registered", f"the view {public} has it", view=view, zone=zone.apex, add=values)
            for rdtype, values in sets.items()
        ]
        choice = Choice(word="register", says="internal users need the public service", changes=changes)
        return state("view.missing", text, name=self.name, rdtype=min(sets), view=view, choices=[choice], cause=cause)

    def differs(self, sides: list[tuple[str, Sets]]) -> Finding:
        """It is otherwise in another view, and nobody has said that it is meant to be."""
        text = f"{self._text} differs between views: {_sides(sides)}. The estate does not declare that."
        advice = "declare what each view is to have, or name it in [[same]]"
        return state("view.differs", text, name=self.name, rdtype=_first_type(sides), advice=advice)

    def _apex(self, view: str) -> Name | None:
        zone = self._scope.estate.zone_of(self.name, view)
        return zone.apex if zone is not None else None

    def told_outside(self, view: str, sets: Sets, apart: Sets) -> Iterator[Finding]:
        """Return what a public view tells and should not: private addresses, names of the inside, what is internal."""
        if sets and self._scope.is_inside_only(self.name):
            text = f"{self._text} is internal ([[inside_only]]), and the view {view} has it: {_said(sets)}."
            changes = [
                changed(self.name, rdtype, "expected", "internal", view=view, zone=self._apex(view), remove=values)
                for rdtype, values in sets.items()
            ]
            yield state("view.leak", text, name=self.name, rdtype=min(sets), view=view, changes=changes)
            return
        for rdtype in (A, AAAA):
            private = [value for value in sets.get(rdtype, ()) if is_private(value)]
            if private:
                shown = ", ".join(address_text(value) for value in sorted(private))
                text = (
                    f"{self._text} has a private address in the view {view}: {shown}. It cannot be reached from the "
                    "Internet."
                )
                change = changed(
                    self.name, rdtype, "registered", "private", view=view, zone=self._apex(view), remove=private
                )
                choice = Choice(word="remove", says="nobody needs it from the Internet", changes=[change])
                yield state("view.private-address", text, name=self.name, rdtype=rdtype, view=view, choices=[choice])
        for rdtype, values in {**sets, **apart}.items():
            targets = [soa_fields(value).mname for value in values] if rdtype == SOA else []
            targets += [value[TARGET_AT[rdtype] :] for value in values if rdtype in TARGET_AT]
            inside = [target for target in targets if self._scope.is_inside(target)]
            if inside:
                shown = ", ".join(sorted(map(to_text, inside)))
                text = f"{self._text} {type_text(rdtype)} names an internal host in the view {view}: {shown}."
                yield state("view.internal-name", text, name=self.name, rdtype=rdtype, view=view)

    def unverified(self, view: str, trouble: str, looked_up: Lookup | None) -> Finding:
        """Return a view of which nothing can be said."""
        text = f"{self._text} could not be compared: in the view {view}, {trouble}."
        return state(
            "view.unverified", text, name=self.name, rdtype=A, view=view, outcome="unverified", cause=f"{view}: {trouble}",
            answers=answers_of(looked_up) if looked_up is not None else (),
        )  # fmt: skip

    @staticmethod
    def leak(zone: Zone, server: Server) -> Finding:
        """Return a public server that answers for a zone of the inside."""
        text = f"{server.label}, which is public, answers for {to_text(zone.apex)}, which is in no public view."
        advice = f"remove {to_text(zone.apex)} from {server.label}, or have it answer internal clients only"
        return state("view.leak", text, name=zone.apex, rdtype=SOA, view=zone.view, advice=advice, server=server)

    @staticmethod
    def leak_unverified(zone: Zone, server: Server, why: str) -> Finding:
        """Return a public server of which nobody knows whether it answers for a zone of the inside."""
        text = f"Whether {server.label}, which is public, answers for {to_text(zone.apex)} could not be seen: {why}."
        return state(
            "view.unverified", text, name=zone.apex, rdtype=SOA, view=zone.view, outcome="unverified", server=server,
            cause=f"{server.label}: {why}",
        )  # fmt: skip

    @staticmethod
    def wrong_view(label: str, server: Server, wanted: str, given: list[str], name: Name) -> Finding:
        """Return a resolver that gives another view than it should."""
        what = f"the view {_listed(given)}" if given else "no view that the estate knows"
        text = f"{label} should give the view {wanted}, and gives {what}: seen by {to_text(name)}."
        advice = f"have {label} forward to the servers of the view {wanted}"
        return state("view.wrong-view", text, name=name, rdtype=A, view=wanted, server=server, advice=advice)

    @staticmethod
    def neither(label: str, server: Server, name: Name, values: tuple[bytes, ...]) -> Finding:
        """Return a resolver that says what no view's servers say."""
        shown = ", ".join(address_text(value) for value in values) or "NXDOMAIN or NODATA"
        text = f"{label} says of {to_text(name)} what no view's servers say: {shown}. It may be what a cache still has."
        return state("view.neither", text, name=name, rdtype=A, server=server)

    @staticmethod
    def gives(label: str, server: Server, views: list[str], name: Name) -> Finding:
        """Return which view a resolver gives, where the estate does not say which it should."""
        what = f"the view {_listed(views)}" if views else "now one view and now another"
        return state("view.resolver", f"{label} gives {what}, by {to_text(name)}.", name=name, rdtype=A, server=server)

    @staticmethod
    def resolver_unverified(label: str, server: Server, answer: Answer) -> Finding:
        """Return a resolver that gave no usable answer."""
        text = f"Which view {label} gives could not be seen: {answer.trouble or 'an alias in place of an address'}."
        return state(
            "view.unverified", text, name=answer.question.name, rdtype=A, outcome="unverified", server=server,
            cause=f"{label}: {answer.trouble}", evidence=[evidence_of(answer)],
        )  # fmt: skip


def _first_type(sides: list[tuple[str, Sets]]) -> int:
    return min((rdtype for _, sets in sides for rdtype in sets), default=A)


def _sides(sides: list[tuple[str, Sets]]) -> str:
    return "; ".join(f"{view}: {_said(sets)}" for view, sets in sides)


def _said(sets: Sets) -> str:
    if not sets:
        return "NXDOMAIN or NODATA"
    parts = []
    for rdtype in sorted(sets):
        values = ", ".join(sorted(rdata_text(rdtype, value) for value in sets[rdtype]))
        parts.append(f"alias of {values}" if rdtype == CNAME else f"{type_text(rdtype)} {values}")
    return ", ".join(parts)


def _listed(views: Iterable[str]) -> str:
    return " and ".join(views)
