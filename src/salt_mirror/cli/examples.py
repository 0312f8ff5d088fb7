"""The commands by the phase of the work, and two examples of each: for the help, for the manual page, and for a test that runs
them on the demo's world."""

from __future__ import annotations

PHASES: dict[str, tuple[str, ...]] = {
    "Look": ("ask", "descend", "from-here", "explain"),
    "Check": ("pairs", "rollcall", "authority", "mail", "services", "resolvers", "views", "stale", "audit", "history"),
    "Change": ("budget", "mend"),
    "Prove": ("settle", "snapshot", "compare", "differ"),
    "Estate": ("draft", "expect", "demo"),
    "Vantages": ("vantage",),
}
"""Every command under the phase of the work that it belongs to."""

EXAMPLES: dict[str, tuple[tuple[str, str], tuple[str, str]]] = {
    "ask": (
        ("ask kiln-02", "what a host has, with whatever completes its name"),
        ("ask gullmarsh.example MX --at authoritative", "the same of every authoritative server"),
    ),
    "descend": (
        ("descend web.gullmarsh.example", "from the root down to the answer, every server on the way"),
        ("descend mail.gullmarsh.example A --json", "the same for a program"),
    ),
    "from-here": (
        ("from-here weighbridge --settings computer", "what a colleague's computer gets, by its captured files"),
        ("from-here --settings computer --json", "the settings of that computer, for a program"),
    ),
    "explain": (
        ("explain pair.no-pointer", "what a finding means, and how to mend it"),
        ("explain rollcall --json", "every code of a check, for a program"),
    ),
    "pairs": (
        ("pairs rake-01", "one host, forward and back"),
        ("pairs 10.77.20.0/24 --report html:pairs.html", "every address of a network, as a page"),
    ),
    "rollcall": (
        ("rollcall --faults", "every expected record, on every server; only the faults"),
        ("rollcall records/services.csv --zone gullmarsh.example --view public", "a list with other columns, in one zone"),
    ),
    "authority": (
        ("authority gullmarsh.example --view public", "SOA, name servers and delegation of one zone"),
        ("authority --quiet --report json:authority.json", "all zones, into a file"),
    ),
    "mail": (
        ("mail gullmarsh.example --view public", "where mail goes, down to addresses"),
        ("mail --faults", "every domain of the estate that gets mail"),
    ),
    "services": (
        ("services pans.gullmarsh.internal", "a directory's locators, and who is behind them"),
        ("services --fail-on never --json", "all of them, for a program that judges itself"),
    ),
    "resolvers": (
        ("resolvers", "every resolver of the estate: which zones it reaches, what it rewrites, whom it serves"),
        ("resolvers north-office --all", "one of them, test by test"),
    ),
    "views": (
        ("views", "what is missing in a view, and what leaks"),
        ("views gullmarsh.example --json", "one zone, for a program"),
    ),
    "stale": (
        ("stale --forecast 30d", "what no longer belongs, and what ages away in a month"),
        ("stale pans.gullmarsh.internal --by network", "of one zone, counted by network"),
    ),
    "audit": (
        ("audit", "all checks over all zones and views"),
        ("audit --quiet --history audits.db --report html:audit.html --fail-on new", "every night, unattended"),
    ),
    "history": (
        ("history audits.db", "the audits of the past"),
        ("history audits.db --report html:past.html --since 30d", "a month as a page: faults by day, each zone's days"),
    ),
    "budget": (
        ("budget vpn.gullmarsh.example A", "how long a change takes until the last cache has it"),
        ("budget vpn.gullmarsh.example A --to 192.0.2.77 --at-time 'in 1d'", "what to do when, before and after"),
    ),
    "mend": (
        ("mend", "what would mend the estate, planned and proved"),
        ("mend 10.77.10.0/24 --json", "of one network, for a program"),
    ),
    "settle": (
        ("settle kiln-02.pans.gullmarsh.internal A --to 10.77.20.12 --within 10min", "watch until everybody has a change"),
        ("settle old-scale.pans.gullmarsh.internal TXT --gone --within 1h", "watch until no cache has it"),
    ),
    "snapshot": (
        ("snapshot before.jsonl.gz", "what every server answers now, in a file"),
        ("snapshot kiln.jsonl kiln-02 kiln-04 --json", "of some names, for a program"),
    ),
    "compare": (
        ("compare before.jsonl.gz", "what has changed since"),
        ("compare before.jsonl.gz --json", "the same for a program"),
    ),
    "differ": (
        ("differ dc-north dc-kiln", "the zones of two servers, set by set"),
        ("differ dc-north dc-kiln pans.gullmarsh.internal --json", "one of their zones, for a program"),
    ),
    "draft": (
        ("draft gullmarsh.example --view public", "an estate from a name, by asking; or what is new to the one that is there"),
        ("draft 10.77.10.0/24 --view internal --json", "from a network, for a program"),
    ),
    "expect": (
        ("expect records/leases.csv --to zone --zone pans.gullmarsh.internal", "a list in another form"),
        ("expect records/services.csv --zone pans.gullmarsh.internal --json", "for a program, with what is wrong with it"),
    ),
    "vantage": (
        ("vantage keys keys kiln-house quay", "certificates for two vantages, the broker and this desk"),
        ("vantage list", "who is there, versions, clocks and round trips"),
    ),
    "demo": (
        ("demo", "a tour through the commands on a made-up estate"),
        ("demo --stay --folder gullmarsh", "its servers, to try commands on"),
    ),
}  # fmt: skip
"""What is typed behind the program's name, and what for."""


def phase_of(command: str) -> str:
    """The phase of the work that a command belongs to."""
    return next(phase for phase, commands in PHASES.items() if command in commands)
