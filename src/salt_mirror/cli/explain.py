"""`salt-mirror explain`: what a finding means, why it matters, and how to mend it."""

from __future__ import annotations

import sys
from typing import Annotated

import typer


def explain(
    word: Annotated[
        str | None,
        typer.Argument(metavar="[CODE|CHECK]", help="A code such as pair.no-pointer, or a check such as pairs."),
    ] = None,
) -> None:
    """Explain a code or a check: what is tested, why it matters, how it is judged, typical causes, how to mend it."""
    from rich.console import Console
    from rich.text import Text

    from salt_mirror.estate.errors import BadInput
    from salt_mirror.explaining import codes_of, explanations
    from salt_mirror.findings import CATALOGUE

    console = Console(file=sys.stdout, highlight=False, markup=False, emoji=False)

    def line(label: str, words: str) -> None:
        if words:
            console.print(Text.assemble((f"  {label:<12}", "green"), words), soft_wrap=not console.is_terminal)

    checks, texts = explanations()
    if word is None:
        console.print(
            Text(
                f"{len(CATALOGUE)} codes in {len(checks)} families; explain CODE or CHECK tells all of one.",
                style="bold",
            )
        )
        for family, check in checks.items():
            console.print()
            console.print(
                Text.assemble((f"{family}.*", "bold"), f"  {check.command}: {check.tests}"),
                soft_wrap=not console.is_terminal,
            )
            for code, entry in codes_of(family).items():
                console.print(Text(f"  {code:<26}{entry.weight:<9}{entry.title}"))
        return
    found = codes_of(word.lower())
    if not found:
        from difflib import get_close_matches

        known = [*CATALOGUE, *(check.command for check in checks.values())]
        near = get_close_matches(word, known, 1, 0.4)
        hint = f'did you mean "{near[0]}"?' if near else "explain alone lists all"
        raise BadInput(f'"{word}" is no code and no check; {hint}')
    told = ""
    for code, entry in found.items():
        family = code.split(".")[0]
        check, text = checks[family], texts[code]
        if len(found) > 1 and family != told:
            console.print(Text(f"{family}.*, by salt-mirror {check.command}", style="bold"))
            line("tests", check.tests)
            line("judged", check.judged)
            line("unverified", check.unverified)
            console.print()
            told = family
        console.print(Text.assemble((code, "bold"), f"  {entry.weight}: {entry.title}"))
        line("matters", entry.meaning)
        if len(found) == 1:
            line("tests", check.tests)
            line("judged", check.judged)
            line("unverified", check.unverified)
        line("causes", text.causes)
        line("mend", text.mend)
        line("source", text.rfc)
