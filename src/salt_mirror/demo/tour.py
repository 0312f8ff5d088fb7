"""The tours: commands run on Gullmarsh's world as a user would run them, with a sentence before each.

Strategy: the short one shows what the work is like in a few minutes of reading; the whole one has every command that there is.
"""

from __future__ import annotations

import subprocess
import sys
import threading
from collections.abc import Callable, Sequence
from pathlib import Path

from salt_mirror.demo.stops import Stop, mend_and_break, move_the_shop, take_new_lists
from salt_mirror.demo.world import SPEED, fill_caches, gullmarsh
from salt_mirror.standin.server import StandIn

_SHOP = ("shop.gullmarsh.example", "A", "--to", "192.0.2.12")
"""The move of the web shop, as `budget` and `settle` take it."""

_KILNS = "10.77.20.0/24=10.88.20.0/24"
_PHASE = ("mend", "--plan", "{folder}/kiln.jsonl", "--apply", "--yes", "--phase")

SHORT = (
    Stop(
        "A user at Kiln House says that a service with reverse lookups refuses the new kiln.",
        ("pairs", "kiln-02"),
        1,
    ),
    Stop(
        "Another user mistypes a name. What is wrong with it?",
        ("ask", "wieghbridge", "--at", "dc-north"),
        1,
    ),
    Stop(
        "Is every kiln registered as expected, on every authoritative server?",
        ("rollcall", "--faults", "--name", "kiln-*"),
        1,
    ),
    Stop(
        "The web shop is to move to another address. How long can that take?",
        ("budget", *_SHOP),
        0,
    ),
    Stop(
        "It moves. When does the office's cache have it? (Time goes by 240 times as fast in this cache.)",
        ("settle", *_SHOP, "--at", "kiln-office", "--speed", f"{SPEED:.0f}"),
        0,
        move_the_shop,
    ),
    Stop(
        "All checks over one zone, as every night over the whole estate.",
        ("audit", "--faults", "--only", "20.77.10.in-addr.arpa"),
        1,
    ),
    Stop(
        "Somebody proposes a better name for a kiln. What would that break? It is judged before it is loaded.",
        ("rehearse", "--zone-file", "pans.gullmarsh.internal={folder}/proposed/pans.zone", "--faults"),
        1,
    ),
    Stop(
        "A host is not where it should be: plan what mends it, send that, wait for every server, and check again.",
        ("mend", "rake-05", "--apply", "--yes", "--undo", "{folder}/rake-05.undo"),
        0,
    ),
)
"""A fault in a pair, a mistyped name, the roll call, a change before and while it happens, the audit, an edit before it is
loaded, mending and its proof."""

STOPS = (
    Stop(
        "A host was added at North Pans. Does its address point back at it, on every authoritative server?",
        ("pairs", "rake-01"),
        0,
    ),
    Stop(
        "A user at Kiln House says that the new kiln is refused by a service that does reverse lookups.",
        ("pairs", "kiln-02"),
        1,
    ),
    Stop(
        "The harbour's second server refuses to answer. That is no fault: it is unverified, not missing.",
        ("pairs", "crane"),
        3,
    ),
    Stop(
        "A sweep of the Kiln House network also finds PTR records to nonexistent names.",
        ("pairs", "10.77.20.0/24", "--faults"),
        1,
    ),
    Stop(
        "Another user cannot reach the new press. What does it have, and does every server and the office's cache say so?",
        ("ask", "press", "A", "--at", "authoritative,offices"),
        0,
    ),
    Stop(
        "A user mistypes a name. What is wrong with it?",
        ("ask", "wieghbridge", "--at", "dc-north"),
        1,
    ),
    Stop(
        "The services moved to dc-kiln on Sunday. Is every expected record registered, on every authoritative server?",
        ("rollcall", "--faults"),
        1,
    ),
    Stop(
        "Before any record is trusted: is the zone itself sound? Its versions, its servers, and where the parent sends people.",
        ("authority", "gullmarsh.example", "--view", "public"),
        1,
    ),
    Stop(
        "From the root down to the web server, on every server of every level, as the Internet finds it.",
        ("descend", "www.gullmarsh.example"),
        1,
    ),
    Stop(
        "Mail from the Internet does not arrive. Which hosts accept it, and can a sender connect to them?",
        ("mail", "gullmarsh.example", "--view", "public", "--at", "offices"),
        1,
    ),
    Stop(
        "Users at Kiln House cannot log on. Is every controller registered, on every server? Are there leftovers?",
        ("services", "pans.gullmarsh.internal"),
        1,
    ),
    Stop(
        "The shop works from home and not in the office. What is missing in a view, and which view does each resolver give?",
        ("views", "gullmarsh.example"),
        1,
    ),
    Stop(
        "Is it the resolvers? What each of them does with the zones of its view, with public names, and with nonexistent ones.",
        ("resolvers",),
        1,
    ),
    Stop(
        "At one counter of the harbour office the weighbridge is where it was. Every server is right: what differs first?",
        ("from-here", "weighbridge", "web.gullmarsh.example", "--settings", "{folder}/computer"),
        1,
    ),
    Stop(
        "Zones fill up with hosts that are gone. What no longer belongs, and what will scavenging take that is still needed?",
        ("stale", "--forecast", "30d"),
        1,
    ),
    Stop(
        "The web shop is to move to another address. How long will that take, at the longest?",
        ("budget", *_SHOP),
        0,
    ),
    Stop(
        "It moves now. Which caches have it already, and when does the last old entry expire? (Time goes by 240 times "
        "as fast in these caches.)",
        ("settle", *_SHOP, "--at", "branches,providers", "--speed", f"{SPEED:.0f}"),
        0,
        move_the_shop,
    ),
    Stop(
        "All of that at once, as every night: the whole estate in one command, with a page for those who were not there.",
        ("audit", "--faults", "--history", "{folder}/audits.db", "--report", "html:{folder}/audit.html"),
        1,
    ),
    Stop(
        "Only the public zone, kept in a history, so that the next run can show what is new.",
        ("audit", "--only", "gullmarsh.example", "--only", "public", "--history", "{folder}/public.db", "--faults"),
        1,
    ),
    Stop(
        "The provider's secondary has caught up, and a record was removed. What is new, what is gone, what is still there?",
        ("audit", "--only", "gullmarsh.example", "--only", "public", "--history", "{folder}/public.db", "--faults"),
        1,
        before=mend_and_break,
    ),
    Stop(
        "And since then? In a sentence, and run by run.",
        ("history", "{folder}/public.db"),
        0,
    ),
    Stop(
        "Nobody reads a report every morning. What would the help desk be sent, where something is new?",
        ("notify", "--preview", "helpdesk"),
        0,
    ),
    Stop(
        "So it is run every night by this computer's own scheduler.",
        ("schedule", "--every", "night", "--notify", "helpdesk", "--print", "cron"),
        0,
    ),
    Stop(
        "The estate was written a year ago. What is there by now that it does not know?",
        ("draft", "gullmarsh.example", "--view", "public", "--folder", "{folder}"),
        0,
    ),
    Stop("What does that mean?", ("explain", "roll.missing-name"), 0),
    Stop(
        "Somebody proposes a better name for a kiln. What would that break? It is judged before it is loaded.",
        ("rehearse", "--zone-file", "pans.gullmarsh.internal={folder}/proposed/pans.zone"),
        1,
    ),
    Stop(
        "Now to mend it. A host that is not where it should be: what goes, what comes, and in which zones?",
        ("mend", "rake-05"),
        1,
    ),
    Stop(
        "Everything that is ours to change is planned, proved by judging again, sent to the primaries, and waited for.",
        ("mend", "--apply", "--yes", "--choose", "remove", "--undo", "{folder}/before-mending.undo"),
        1,
    ),
    Stop(
        "What was removed by mistake was expected, and is back.",
        ("rollcall", "--name", "tasting.gullmarsh.example", "--view", "public"),
        0,
    ),
    Stop(
        "And the proof: what is left waits to be registered, or is the parent's, the provider's, and the zones' own SOA.",
        ("audit", "--faults"),
        1,
    ),
    Stop(
        "Kiln House gets another network. Everything that is about it, in phases, each rehearsed before anything is sent.",
        ("rehearse", "--renumber", _KILNS, "--hosts", "{folder}/records/kilns.txt", "--write", "{folder}/kiln"),
        0,
    ),
    Stop(
        "First the TTLs go down.",
        (*_PHASE, "lower", "--undo", "{folder}/lower.undo"),
        0,
    ),
    Stop(
        "When caches have the low TTLs, the lists with the new addresses are put in place, and the kilns switch.",
        (*_PHASE, "switch", "--undo", "{folder}/switch.undo"),
        0,
        before=take_new_lists,
    ),
    Stop(
        "The proof: has everything of the plan come true, on every server?",
        ("compare", "--plan", "{folder}/kiln.jsonl"),
        0,
    ),
    Stop(
        "And do forward and reverse agree in the new network?",
        ("pairs", "10.88.20.0/24"),
        0,
    ),
)


Show = Callable[[str], None]
"""Prints a line."""


Wait = Callable[[str], None]
"""Waits until whoever watches goes on; not at all where nobody does."""

NEXT = ("salt-mirror ask press", "salt-mirror pairs 10.77.10.0/24", "salt-mirror audit")


def tour(folder: Path, show: Show, wait: Wait, *, whole: bool) -> int:
    """Run a tour on a world in a folder. Return the number of stops that went wrong."""
    with gullmarsh(folder) as (estate, servers):
        show(f"Gullmarsh Saltworks is up: {len(servers)} name servers on loopback, its estate in {estate}.")
        wrong = go(STOPS if whole else SHORT, estate, servers, show, wait)
        show("")
        show("Try next, in a world that stays up: salt-mirror demo --stay --folder gullmarsh, and in another terminal")
        show(f"  cd gullmarsh, then {NEXT[0]}, {NEXT[1]} or {NEXT[2]}")
        if not whole:
            show("Every command in turn: salt-mirror demo --whole. From where people are: salt-mirror demo --vantages")
    return wrong


def tour_of_vantages(folder: Path, show: Show, wait: Wait) -> int:
    """Return the same with three desks that ask for us."""
    from salt_mirror.demo.vantages import DESKS, stationed
    from salt_mirror.demo.vantages import STOPS as SEEN_FROM_DESKS

    with gullmarsh(folder) as (estate, servers), stationed(estate, servers):
        show(
            f"Gullmarsh Saltworks is up, and {len(DESKS)} desks ask for us, over TLS on loopback; the estate is {estate}."
        )
        return go(SEEN_FROM_DESKS, estate, servers, show, wait)


def go(stops: Sequence[Stop], estate: Path, servers: dict[str, StandIn], show: Show, wait: Wait) -> int:
    """Make the stops on a world that is there. Returns how many went wrong."""
    wrong = 0
    folder = estate.parent
    for number, stop in enumerate(stops, 1):
        if number > 1:
            wait("Enter: the next stop")
        show("")
        show(f"── {number} of {len(stops)} ─ {stop.says}")
        command = [word.replace("{folder}", str(folder)) for word in stop.command]
        show(f"$ salt-mirror {' '.join(command)}")
        sys.stdout.flush()
        estate_option = [] if command[0] in ("explain", "draft") else ["--estate", str(estate)]
        if stop.before is not None:
            stop.before(servers, folder)
        if stop.meanwhile is not None:
            fill_caches(servers, "shop.gullmarsh.example", "A")
            threading.Thread(target=stop.meanwhile, args=(servers,), daemon=True).start()
        status = subprocess.run([sys.executable, "-m", "salt_mirror", *command, *estate_option], check=False).returncode
        show(f"(exit status {status})")
        wrong += status != stop.status
    return wrong
