"""Codes and checks explained on a terminal: each with what it means, what causes it, and how to mend it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TextIO

from rich.table import Column, Table
from rich.text import Text

from salt_mirror.catalogue import Code, Family, catalogue, families, family_of
from salt_mirror.checks.plan.rules import RULES
from salt_mirror.explaining import codes_of, command_of
from salt_mirror.report.terminal.console import console_on


class ExplanationPage:
    """Explanations on their way to a terminal or a pipe."""

    def __init__(self, file: TextIO) -> None:
        self._console = console_on(file)

    def _line(self, label: str, words: str) -> None:
        if words:
            text = Text.assemble((f"  {label:<15}", "green"), words)
            self._console.print(text, soft_wrap=not self._console.is_terminal)

    def overview(self) -> None:
        """Every family with its codes, a line for each."""
        console = self._console
        told = f"{len(catalogue())} codes in {len(families())} families; explain CODE or CHECK shows one."
        console.print(Text(told, style="bold"))
        for family, text in families().items():
            console.print()
            head = Text.assemble((f"{family}.*", "bold"), f"  {command_of(family)}: {text.tests}")
            console.print(head, soft_wrap=not console.is_terminal)
            for code, entry in codes_of(family).items():
                console.print(Text(f"  {code:<26}{entry.weight:<9}{entry.title}"))

    def options(self, shared: Mapping[str, Sequence[tuple[str, str]]]) -> None:
        """The options that commands have in common, under the headings of the help."""
        for number, (heading, options) in enumerate(shared.items()):
            self._console.print(Text(("\n" if number else "") + heading, style="bold"))
            if self._console.is_terminal:  # wrapped beside the names; a pipe gets each on one line
                table = Table.grid(Column(width=26), Column(), padding=(0, 1))
                for written, words in options:
                    table.add_row(Text(f"  {written}", style="green"), words)
                self._console.print(table)
                continue
            for written, words in options:
                self._console.print(Text(f"  {written:<26} {words}"), soft_wrap=True)

    def plan(self) -> None:
        """The rules by which changes are planned, proved and sent."""
        self._console.print(Text("How mend plans, proves and sends changes", style="bold"))
        for rule in RULES:
            self._line(rule.about, rule.says)
            self._line("", f"Example: {rule.example}")

    def codes(self, found: dict[str, Code]) -> None:
        """Some codes in full; what their family has in common stands once."""
        told = ""
        for code, entry in found.items():
            family = family_of(code)
            text = families()[family]
            if len(found) > 1 and family != told:
                self._console.print(Text(f"{family}.*, by salt-mirror {command_of(family)}", style="bold"))
                self._family(text)
                self._console.print()
                told = family
            self._console.print(Text.assemble((code, "bold"), f"  {entry.weight}: {entry.title}"))
            self._line("matters", entry.meaning)
            if len(found) == 1:
                self._family(text)
            self._line("causes", entry.causes)
            self._line("mend", entry.mend)
            self._line("source", entry.source)

    def _family(self, text: Family) -> None:
        self._line("tests", text.tests)
        self._line("judged", text.judged)
        self._line("unverified", text.unverified)
