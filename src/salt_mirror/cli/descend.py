"""`salt-mirror descend`: from the root down every cut to the answer, on all servers of every level."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from salt_mirror.cli.opening import (
    AllOption,
    EstateOption,
    FaultsOption,
    JsonOption,
    PaceOption,
    StrictOption,
    TimeoutOption,
    TriesOption,
    has_ipv6,
    open_estate,
)

if TYPE_CHECKING:
    from salt_mirror.dns.names import Name


def descend(
    name: Annotated[str, typer.Argument(metavar="NAME", help="The name to find, or an address for its PTR.")],
    rdtype: Annotated[str | None, typer.Argument(metavar="[TYPE]", help="The type; A when left out.")] = None,
    estate_file: EstateOption = None,
    first: Annotated[
        bool, typer.Option("--first", help="Ask one server a level, as a resolver would, and the next when it fails.")
    ] = False,
    faults: FaultsOption = False,
    everything: AllOption = False,
    strict: StrictOption = False,
    as_json: JsonOption = False,
    pace: PaceOption = None,
    timeout: TimeoutOption = 1.0,
    tries: TriesOption = 3,
) -> None:
    """Go down from the root to a name, asking all servers at every cut, and see where they part ways."""
    from msgspec.structs import replace

    from salt_mirror.checks.atlas import Atlas
    from salt_mirror.checks.descent.walking import Descent, Walker
    from salt_mirror.checks.descent.wording import answer_words, findings_of, sheet_of
    from salt_mirror.cli.running import Manner, print_and_end, report_on, run_check
    from salt_mirror.dns.names import to_text
    from salt_mirror.dns.records import type_text
    from salt_mirror.findings import Outcome, worse
    from salt_mirror.report.document import Subject

    wanted, kind = _wanted(name, rdtype)
    estate = open_estate(estate_file)
    atlas = Atlas(estate, ipv6=has_ipv6())
    done: list[Descent] = []
    walker = Walker(atlas, first=first)
    ran = run_check(
        atlas,
        [],
        Manner(False, pace, timeout, tries),
        1,
        "names found",
        lambda runner, _exchange, tick: done.extend(runner.run([walker.descend(wanted, kind)])),
    )
    outcome: Outcome = "unverified"
    findings = []
    says = f"{to_text(wanted)} {type_text(kind)}: the way down was not finished."
    if done:
        says, outcome = answer_words(done[0])
        findings = findings_of(done[0])
        for finding in findings:
            outcome = worse(outcome, finding.outcome)
    report = replace(
        report_on("descend", estate, ran, lambda one: int(one == outcome), findings, [], total=1),
        says=says,
        legs=[sheet_of(leg) for leg in done[0].legs] if done else [],
    )
    subject = Subject(name=to_text(wanted), type=type_text(kind), view="", outcome=outcome)
    print_and_end(
        report,
        lambda: [subject],
        json=as_json,
        faults=faults,
        everything=everything,
        strict=strict,
        several_views=False,
    )


def _wanted(name: str, rdtype: str | None) -> tuple[Name, int]:
    """The name and type to find. Raises BadInput."""
    import ipaddress

    from salt_mirror.dns.names import BadName, from_text
    from salt_mirror.dns.records import PTR, A, BadRecord, type_from_text
    from salt_mirror.dns.reverse import reverse_name
    from salt_mirror.estate.errors import BadInput

    try:
        kind = type_from_text(rdtype) if rdtype is not None else None
        try:
            return reverse_name(ipaddress.ip_address(name).packed), PTR if kind is None else kind
        except ValueError:
            return from_text(name), A if kind is None else kind
    except (BadName, BadRecord) as error:
        raise BadInput(str(error)) from None
