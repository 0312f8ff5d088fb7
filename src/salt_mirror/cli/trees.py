"""What the commands with trees of tests have in common: run their dialogues, report, and end."""

from __future__ import annotations

from collections.abc import Callable, Collection

from msgspec.structs import replace

from salt_mirror.checks.atlas import Atlas
from salt_mirror.checks.tests import Judged, outcome_of
from salt_mirror.cli.running import Manner, print_and_end, report_on, run_check
from salt_mirror.dns.dialogue import Dialogue, Runner
from salt_mirror.dns.holding import HoldingExchange
from salt_mirror.dns.names import Name, to_text
from salt_mirror.estate.model import Estate
from salt_mirror.findings import Outcome
from salt_mirror.report.document import Subject


def run_trees(
    command: str,
    estate: Estate,
    atlas: Atlas,
    views: Collection[str],
    make: Callable[[HoldingExchange], dict[tuple[Name, str], Dialogue[Judged]]],
    manner: Manner,
    *,
    json: bool,
    faults: bool,
    everything: bool,
    strict: bool,
) -> None:
    """Runs a tree's dialogue for each name and view, prints the report, and ends the program with its exit status.

    `make` gives the dialogues once the zones that are wanted by transfer are there.
    """
    dialogues: dict[tuple[Name, str], Dialogue[Judged]] = {}
    done: dict[tuple[Name, str], Judged] = {}

    def kept(key: tuple[Name, str], dialogue: Dialogue[Judged]) -> Dialogue[None]:
        done[key] = yield from dialogue

    def work(runner: Runner, exchange: HoldingExchange, tick: Callable[[], None]) -> None:
        dialogues.update(make(exchange))
        for _ in runner.run(kept(key, dialogue) for key, dialogue in dialogues.items()):
            tick()

    ran = run_check(
        atlas,
        views,
        manner,
        0,
        "names looked at",
        work,
    )
    several = len(estate.views) > 1
    trees = [
        (
            name,
            view,
            replace(done[name, view].test, title=f"{to_text(name)}  [{view}]" if several and view else to_text(name)),
        )
        for name, view in dialogues
        if (name, view) in done
    ]
    outcomes = [outcome_of(test.mark) for _, _, test in trees]

    def tally(outcome: Outcome) -> int:
        return outcomes.count(outcome)

    findings = {(one.code, one.view, one.name, one.text): one for judged in done.values() for one in judged.findings}
    report = replace(
        report_on(command, estate, ran, tally, findings.values(), [], total=len(dialogues)),
        tests=[test for _, _, test in trees],
    )
    if len(dialogues) == 1 and trees:
        says = trees[0][2].says
        begin = says.split()[0]
        says = says if "." in begin else says[0].upper() + says[1:]  # a name keeps its case
        report = replace(report, says=f"{says}{_faults(len(report.weighing('fault')))}.")
    print_and_end(
        report,
        lambda: (
            Subject(name=to_text(name), type="", view=view, outcome=outcome_of(test.mark)) for name, view, test in trees
        ),
        json=json,
        faults=faults,
        everything=everything,
        strict=strict,
        several_views=several,
    )


def _faults(number: int) -> str:
    return f"; {number} {'fault' if number == 1 else 'faults'}" if number else ""
