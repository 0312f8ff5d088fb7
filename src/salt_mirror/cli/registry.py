"""The commands: one row each. The program, its help, completion, the manual page, the README's table and the tests read it.

Strategy: what can be derived is not written down. A command's module and function have its name, and the check that it runs,
with its units and codes, is the row of that name in the registry of checks.
"""

from __future__ import annotations

import re
from typing import TYPE_CHECKING, NamedTuple

if TYPE_CHECKING:
    from salt_mirror.checks import Check


class CommandEntry(NamedTuple):
    """One command: its phase of the work, the question that it answers, and two examples, each typed behind the program's name,
    with what it is for. The examples run on the demo's world in a test."""

    name: str
    phase: str
    answers: str
    first: tuple[str, str]
    second: tuple[str, str]

    @property
    def examples(self) -> tuple[tuple[str, str], tuple[str, str]]:
        """Return both examples."""
        return self.first, self.second

    @property
    def answered(self) -> str:
        """Return the question that it answers as plain text, without marks and links."""
        return re.sub(r" \(\[[^)]*\)\)", "", self.answers).replace("`", "")

    @property
    def function(self) -> str:
        """Return the name of the command's module in `salt_mirror.cli`, and of the function in it."""
        return self.name.replace("-", "_")

    @property
    def check(self) -> Check | None:
        """Return the check that it runs, with its units and codes; None for a command that judges nothing of its own."""
        from salt_mirror.checks import CHECKS

        return next((check for check in CHECKS if check.name == self.name), None)


COMMANDS = (
    CommandEntry(
        "ask", "Look", "what does a name have, which server answers, and from a cache or with authority?",
        ("ask kiln-02", "what a host has, with whatever completes its name"),
        ("ask gullmarsh.example MX --at authoritative", "the same of every authoritative server"),
    ),
    CommandEntry(
        "descend", "Look", "from the root down: at which zone cut do servers differ, or signatures break?",
        ("descend web.gullmarsh.example", "from the root down to the answer, every server on the way"),
        ("descend mail.gullmarsh.example A --json", "the same for a program"),
    ),
    CommandEntry(
        "from-here", "Look", "what do programs on this computer get, and which station differs first?",
        ("from-here weighbridge --settings computer", "what a colleague's computer gets, by its captured files"),
        ("from-here --settings computer --json", "the settings of that computer, for a program"),
    ),
    CommandEntry(
        "explain", "Look", "what does a finding mean?",
        ("explain pair.no-pointer", "what a finding means, and how to mend it"),
        ("explain rollcall --json", "every code of a check, for a program"),
    ),
    CommandEntry(
        "pairs", "Check", "does each address have a PTR record, and does each PTR record lead back?",
        ("pairs rake-01", "one host, forward and back"),
        ("pairs 10.77.20.0/24 --report html:pairs.html", "every address of a network, as a page"),
    ),
    CommandEntry(
        "rollcall", "Check", "is every expected record on every authoritative server?",
        ("rollcall --faults", "every expected record, on every server; only the faults"),
        ("rollcall records/services.csv --zone gullmarsh.example --view public", "a list with other columns, in one zone"),
    ),
    CommandEntry(
        "authority", "Check", "are SOA, serials, name servers, delegation and signatures sound?",
        ("authority gullmarsh.example --view public", "SOA, name servers and delegation of one zone"),
        ("authority --quiet --report json:authority.json", "all zones, into a file"),
    ),
    CommandEntry(
        "mail", "Check", "where does mail go, down to usable addresses?",
        ("mail gullmarsh.example --view public", "where mail goes, down to addresses"),
        ("mail --faults", "every domain of the estate that gets mail"),
    ),
    CommandEntry(
        "services", "Check", "are the service locators and domain controllers registered?",
        ("services pans.gullmarsh.internal", "a directory's locators, and who is behind them"),
        ("services --fail-on never --json", "all of them, for a program that judges itself"),
    ),
    CommandEntry(
        "resolvers", "Check", "does a resolver reach every zone, pass on unchanged what it gets, and validate?",
        ("resolvers", "every resolver of the estate: which zones it reaches, what it rewrites, whom it serves"),
        ("resolvers north-office --all", "one of them, test by test"),
    ),
    CommandEntry(
        "views", "Check", "what is missing in which view, and what leaks?",
        ("views", "what is missing in a view, and what leaks"),
        ("views gullmarsh.example --json", "one zone, for a program"),
    ),
    CommandEntry(
        "stale", "Check", "what no longer belongs, and what is due for scavenging that is still needed?",
        ("stale --forecast 30d", "what no longer belongs, and what ages away in a month"),
        ("stale pans.gullmarsh.internal --by network", "of one zone, counted by network"),
    ),
    CommandEntry(
        "audit", "Check", "all of these over the whole estate, asked once; `--changed` for every night",
        ("audit", "all checks over all zones and views"),
        ("audit --quiet --history audits.db --report html:audit.html --fail-on new", "every night, unattended"),
    ),
    CommandEntry(
        "history", "Check", "since when, how often, how long until mended?",
        ("history audits.db", "the audits of the past"),
        ("history audits.db --report html:past.html --since 30d", "a month as a page: faults by day, each zone's days"),
    ),
    CommandEntry(
        "budget", "Change", "when has the last cache dropped the old data?",
        ("budget vpn.gullmarsh.example A", "how long a change takes until the last cache has it"),
        ("budget vpn.gullmarsh.example A --to 192.0.2.77 --at-time 'in 1d'", "what to do when, before and after"),
    ),
    CommandEntry(
        "rehearse", "Change", "what would be different if these zone files were loaded, or this plan were sent?",
        ("rehearse --zone-file pans.gullmarsh.internal=proposed/pans.zone", "what an edited file breaks, before it is loaded"),
        ("rehearse --offline --zone-file proposed", "a folder of zone files against each other, without any server"),
    ),
    CommandEntry(
        "mend", "Change", "what would mend the findings, as a plan to approve; `--apply` sends it, `--back` undoes it",
        ("mend", "what would mend the estate, planned and proved"),
        ("mend 10.77.10.0/24 --json", "of one network, for a program"),
    ),
    CommandEntry(
        "settle", "Prove", "does everybody have a change? Watched until they do",
        ("settle kiln-02.pans.gullmarsh.internal A --to 10.77.20.12 --within 10min", "watch until everybody has a change"),
        ("settle old-scale.pans.gullmarsh.internal TXT --gone --within 1h", "watch until no cache has it"),
    ),
    CommandEntry(
        "snapshot", "Prove", "what does every server answer now, as a file?",
        ("snapshot before.jsonl.gz", "what every server answers now, in a file"),
        ("snapshot kiln.jsonl kiln-02 kiln-04 --json", "of some names, for a program"),
    ),
    CommandEntry(
        "compare", "Prove", "what differs from a snapshot, or from a plan?",
        ("compare before.jsonl.gz", "what has changed since"),
        ("compare before.jsonl.gz --json", "the same for a program"),
    ),
    CommandEntry(
        "differ", "Prove", "what does one server have that another lacks?",
        ("differ dc-north dc-kiln", "the zones of two servers, set by set"),
        ("differ dc-north dc-kiln pans.gullmarsh.internal --json", "one of their zones, for a program"),
    ),
    CommandEntry(
        "draft", "Estate", "which zones and records are there? An estate, written by asking",
        ("draft gullmarsh.example --view public", "an estate from a name, by asking; or what is new to the one that is there"),
        ("draft 10.77.10.0/24 --view internal --json", "from a network, for a program"),
    ),
    CommandEntry(
        "expect", "Estate", "what does a list expect, in another form?",
        ("expect records/leases.csv --to zone --zone pans.gullmarsh.internal", "a list in another form"),
        ("expect records/services.csv --zone pans.gullmarsh.internal --json", "for a program, with what is wrong with it"),
    ),
    CommandEntry(
        "accept", "Estate", "is a finding known? It is written into the estate with the reason, until a day",
        ("accept pair.many-pointers rake-02.* --until 2099-03-31 --why 'renamed in spring'", "a finding that is known"),
        ("accept pair.unverified crane.* --why 'closed for repairs'", "what nobody can verify for now"),
    ),
    CommandEntry(
        "demo", "Estate", "a made-up estate to try things on",
        ("demo", "a tour through the commands on a made-up estate"),
        ("demo --stay --folder gullmarsh", "its servers, to try commands on"),
    ),
    CommandEntry(
        "notify", "Always", "who is sent what is new? The channels of the estate, tried or shown",
        ("notify --preview helpdesk", "what a message to a channel looks like"),
        ("notify --test duty", "a sample, sent to it"),
    ),
    CommandEntry(
        "schedule", "Always", "how is it run every night, or every 15 minutes, by this system's scheduler?",
        ("schedule --every night --notify duty", "the audit of every night, for this system's scheduler"),
        ("schedule --every 15m --print cron", "for cron, every quarter of an hour"),
    ),
    CommandEntry(
        "vantage", "Vantages",
        "what do other machines see? `--from` asks from them ([seen from many places](docs/vantages.md))",
        ("vantage keys keys kiln-house quay", "certificates for two vantages, the broker and this desk"),
        ("vantage list", "who is there, versions, clocks and round trips"),
    ),
)  # fmt: skip
"""Every command, in the order of the work."""

NAMES = {entry.name: entry for entry in COMMANDS}
"""Each command by its name."""


def by_phase() -> dict[str, list[CommandEntry]]:
    """Return the commands under the phase of the work that they belong to."""
    found: dict[str, list[CommandEntry]] = {}
    for entry in COMMANDS:
        found.setdefault(entry.phase, []).append(entry)
    return found


START = ("demo", "draft", "pairs", "ask", "audit")
"""The commands to begin with."""


def overview() -> str:
    """Return what the program says without arguments: what it is, where to begin, and every command by phase."""
    lines = [
        "Salt Mirror checks that DNS records are registered, that forward and reverse agree, and that changes have propagated.",
        "",
        "Begin with",
    ]
    lines += [f"  salt-mirror {name:<8}{NAMES[name].answered}" for name in START]
    lines += ["", "All commands"]
    for phase, entries in by_phase().items():
        lines.append(f"  {phase.lower():<10}{', '.join(entry.name for entry in entries)}")
    lines += ["", "Options of each: salt-mirror COMMAND --help. What a finding means: salt-mirror explain CODE."]
    return "\n".join(lines) + "\n"
