"""A rehearsal in words: its first line, what vanishes and is needed, what could not be seen."""

from __future__ import annotations

from collections.abc import Sequence

from salt_mirror.checks.common.wording import many, state, together_said
from salt_mirror.checks.plan.sets import SetKey
from salt_mirror.checks.rehearse.loading import Loading
from salt_mirror.checks.rehearse.sheet import RehearsalSheet, VanishingRow
from salt_mirror.dns.holding import Holding
from salt_mirror.dns.names import Name, from_text, to_text
from salt_mirror.dns.records import SOA, type_from_text, type_text
from salt_mirror.findings import Finding


def needed_finding(row: VanishingRow) -> Finding:
    """Return what is said of a record set that vanishes while something still needs it."""
    values = ", ".join(row.values)
    text = f"{row.name} {row.type} {values} vanishes, and is still needed: {together_said(row.needed)}."
    advice = f"keep {row.name} {row.type}, or change what needs it first"
    return state(
        "reh.still-needed",
        text,
        name=from_text(row.name),
        rdtype=type_from_text(row.type),
        view=row.view,
        advice=advice,
    )


def unseen_finding(loading: Loading, before: Holding | None) -> Finding:
    """Return what is said of a zone that could not be seen whole as it is now, or on a server of which nothing is known."""
    zone, name = loading.proposed.zone, to_text(loading.proposed.zone.apex)
    why = "; ".join(f"{server.label}: {text}" for server, text in loading.why.items())
    says = [f"It is not known whether every server of {name} takes the file ({why})."] if why else []
    if before is None:
        says.append(f"No server of {name} gave it as it is now: what vanishes from it is not known.")
    elif not before.whole:
        says.append(
            f"No server handed {name} over, so that only what the file and the estate name was asked for: what vanishes from "
            "it is not known completely."
        )
    advice = "allow this computer the transfer (AXFR), with the key of the server in the estate" if not why else ""
    return state(
        "reh.unverified",
        " ".join(says),
        name=zone.apex,
        rdtype=SOA,
        view=zone.view,
        outcome="unverified",
        advice=advice,
    )


def removed_finding(zone: Name, view: str, file: str) -> Finding:
    """Return what is said of a zone whose file is there today, and is no longer."""
    text = f"{to_text(zone)} has no file any more ({file}): what goes with it was not judged."
    return state(
        "reh.removed", text, name=zone, rdtype=SOA, view=view, advice="keep the file while a server has the zone"
    )


def unknown_finding(key: SetKey, why: str) -> Finding:
    """Return what is said of a set that is to change, and of which it is not known what it is now."""
    text = (
        f"What {to_text(key.name)} {type_text(key.rdtype)} is now is not known ({why}), nor what goes with the change."
    )
    return state("reh.unverified", text, name=key.name, rdtype=key.rdtype, view=key.view, outcome="unverified")


def headline(doing: str, found: Sequence[Finding], sheet: RehearsalSheet) -> str:
    """Return the answer in one sentence; `doing` says what is rehearsed, as the subject of a sentence."""
    faults = [one for one in found if one.is_certain_fault]
    cautions = [one for one in found if one.weight == "caution" and one.outcome != "unverified"]
    says = f"{doing} causes {many(len(faults), 'new fault')}" if faults else f"{doing} causes no new fault"
    says += f" and {many(len(cautions), 'new caution')}" if cautions and not faults else ""
    mended = sum(one.weight == "fault" for one in sheet.mended)
    says += (
        f", mends {mended:,}, leaves {sheet.left:,} as {'it is' if sheet.left == 1 else 'they are'}"
        if mended or sheet.left
        else ""
    )
    return f"{says}; {vanishing_said(sheet)}."


def vanishing_said(sheet: RehearsalSheet) -> str:
    """Return how many records vanish, and how many of them are needed. Of a zone that was not seen whole nobody knows."""
    records = sum(len(row.values) for row in sheet.vanishing)
    needed = sum(len(row.values) for row in sheet.vanishing if row.needed)
    if not records:
        return "nothing vanishes" if sheet.whole else "what vanishes could not be seen whole"
    least = "" if sheet.whole else "at least "
    says = f"{least}{many(records, 'record')} {'vanishes' if records == 1 else 'vanish'}"
    if needed:
        some = f", {needed:,} of them still needed" if needed < records else ", all of them still needed"
        says += some if records > 1 else ", and is still needed"
    return says


def headline_of_files(files: int, found: Sequence[Finding], agreeing: int) -> str:
    """Return the answer where files were judged by themselves, with nothing before."""
    faults = sum(one.is_certain_fault for one in found)
    cautions = sum(one.weight == "caution" and one.outcome != "unverified" for one in found)
    what = "This zone file has" if files == 1 else f"These {files:,} zone files have"
    if not faults and not cautions:
        return f"{what} no fault; {many(agreeing, 'thing')} in {'it agrees' if files == 1 else 'them agree'}."
    parts = [many(faults, "fault")] if faults else []
    parts += [many(cautions, "caution")] if cautions else []
    return f"{what} {' and '.join(parts)}."
