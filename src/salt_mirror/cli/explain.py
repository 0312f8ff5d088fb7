"""`salt-mirror explain`: what a finding means, why it matters, and how to mend it."""

from __future__ import annotations

import sys
from typing import Annotated

import typer


def explain(
    word: Annotated[
        str | None,
        typer.Argument(
            metavar="[CODE|CHECK|plan|options]",
            help="A code such as pair.no-pointer, a check such as pairs, plan, or options.",
        ),
    ] = None,
    json: Annotated[bool, typer.Option("--json", help="Print the codes as one JSON document.")] = False,
) -> None:
    """Explain a code or a check: what is tested, why it matters, how it is judged, typical causes, how to mend it. Without a
    word it lists all of them. `plan` is how mend plans, `options` the options that commands have in common."""
    from salt_mirror.catalogue import catalogue, families
    from salt_mirror.estate.errors import BadInput
    from salt_mirror.explaining import codes_of, command_of
    from salt_mirror.report.terminal.explanations import ExplanationPage

    page = ExplanationPage(sys.stdout)
    if json:
        from salt_mirror.report.json.codes import codes_json

        codes = list(catalogue()) if word is None else codes_of(word.lower())
        if not codes:
            raise BadInput.unknown(
                "there is no code and no check", word or "", [*catalogue(), *map(command_of, families())]
            )
        sys.stdout.buffer.write(codes_json({code: catalogue()[code] for code in codes}))
        return
    if word is None:
        page.overview()
        return
    if word.lower() == "plan":
        page.plan()
        return
    if word.lower() == "options":
        from salt_mirror.cli.signatures import shared_options

        page.options(shared_options())
        return
    found = codes_of(word.lower())
    if not found:
        known = [*catalogue(), *map(command_of, families()), "plan", "options"]
        raise BadInput.unknown(
            "there is no code and no check", word, known, otherwise="explain without a word lists all"
        )
    page.codes(found)
