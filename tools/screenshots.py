"""Takes the pictures in docs/screenshots from the demo's world, in a real terminal window: python tools/screenshots.py [NAME…]

Wants Xvfb, xterm and ImageMagick; as root on Debian it installs them. Each picture is a terminal of about 1280x800.
"""

from __future__ import annotations

import os
import random
import shlex
import shutil
import subprocess
import sys
import tempfile
import threading
import time
from datetime import timedelta
from pathlib import Path

import msgspec
from msgspec.structs import replace

from salt_mirror.checks.audit.lines import Audit, Tally
from salt_mirror.demo.stops import move_the_shop
from salt_mirror.demo.vantages import stationed
from salt_mirror.demo.world import SPEED, fill_caches, gullmarsh
from salt_mirror.keeping.history import FinishedRun, add_run
from salt_mirror.report.document import Report, bring_in_sheets

FOLDER = Path(__file__).parents[1] / "docs" / "screenshots"
DISPLAY = ":97"
NEEDED = {"Xvfb": "xvfb", "xterm": "xterm", "import": "imagemagick", "fc-list": "fontconfig", "chromium": "chromium"}
FONT = "fonts-dejavu-core"


PICTURES = {
    "pairs-one-host": ["pairs rake-01", "pairs kiln-02", "pairs crane"],
    "ask": [
        "ask sluice A --at authoritative,offices",
        "ask gullmarsh.example MX --at ns1",
        "ask wieghbridge --at dc-north",
        "ask press MX --at dc-north",
        "ask www.gullmarsh.example A --at dc-north",
        "ask crane A --at dc-harbour",
    ],
    "draft": ["draft gullmarsh.example --view public"],
    "rollcall": ["rollcall --types SRV,A,AAAA"],
    "authority": ["authority saltway.example --view public"],
    "descend": ["descend www.saltway.example"],
    "audit": ["audit --only public --faults"],
    "mail": ["mail gullmarsh.example --view public --at offices"],
    "services": ["services pans.gullmarsh.internal"],
    "views": ["views"],
    "stale": ["stale --forecast 7d"],
    "resolvers": ["resolvers kiln-office isp-two"],
    "from-here": ["from-here weighbridge web.gullmarsh.example --settings computer"],
    "mend": ["mend 10.77.10.0/24"],
    "rehearse": ["rehearse --zone-file pans.gullmarsh.internal=proposed/pans.zone"],
}
"""What is typed for each picture, in a folder that holds the demo's estate."""


SMALL = frozenset(("authority", "audit", "mend", "rehearse", "resolvers", "services", "from-here", "stale"))
"""Pictures in a smaller type, so that all of the output is seen."""


def install() -> None:
    """Brings in what is missing, or says what to install."""
    missing = [package for program, package in NEEDED.items() if shutil.which(program) is None]
    if not missing:
        return
    if not hasattr(os, "geteuid") or os.geteuid() or shutil.which("apt-get") is None:
        sys.exit(f"screenshots want {', '.join(missing)}; install them and try again")
    subprocess.run(["apt-get", "update", "-qq"], check=True)
    subprocess.run(["apt-get", "install", "-y", "-qq", "--no-install-recommends", *missing, FONT], check=True)


def picture(
    name: str, lines: list[str], environment: dict[str, str], *, small: bool = False, after_s: float | None = None
) -> None:
    """Types commands in a terminal window and takes its picture when the last one has ended, or so many seconds later."""
    with tempfile.TemporaryDirectory() as folder:
        done = Path(folder) / "done"
        script = "\n".join(f"printf '$ %s\\n' {shlex.quote(line)}\n{line}" for line in lines)
        path = Path(folder) / "script.sh"
        path.write_text(f"{script}\ntouch {done}\nsleep 60\n", encoding="utf-8")
        window = [
            "xterm",
            "-fa",
            "DejaVu Sans Mono",
            "-fs",
            "8" if small else "9",
            "-geometry",
            "182x61+0+0" if small else "159x52+0+0",
            "-bg",
            "#101418",
            "-fg",
            "#d8dee4",
        ]
        terminal = subprocess.Popen([*window, "-e", "sh", str(path)], env=environment)
        try:
            until = time.monotonic() + 240
            while after_s is None and not done.exists() and time.monotonic() < until:
                time.sleep(0.1)
            time.sleep(after_s or 0.7)
            target = FOLDER / f"{name}.png"
            subprocess.run(["import", "-window", "root", str(target)], env=environment, check=True)
            print(f"wrote {target}")
        finally:
            terminal.terminate()
            terminal.wait()


def photograph(page: Path, target: Path, scheme: int) -> None:
    """Takes the picture of a page in Chromium without a window; `scheme` is 1 for light, 0 for dark."""
    subprocess.run(
        [
            "chromium", "--headless", "--no-sandbox", "--disable-gpu", "--hide-scrollbars", "--window-size=1280,800",
            f"--blink-settings=preferredColorScheme={scheme}", f"--screenshot={target}", page.as_uri(),
        ],
        check=True, capture_output=True, timeout=120,
    )  # fmt: skip
    print(f"wrote {target}")


def keep_a_past(estate: Path, history: Path) -> None:
    """Keeps three weeks of audits of the demo's world, in which its faults came one by one, some for a while alone."""
    program = str(Path(sys.executable).with_name("salt-mirror"))
    done = subprocess.run([program, "audit", "--estate", str(estate), "--json"], check=False, capture_output=True)
    bring_in_sheets()
    report = msgspec.json.decode(done.stdout, type=Report)
    assert isinstance(report.audit, Audit)
    chance = random.Random(3)
    days = [day for day in range(20, -1, -1) if day not in (6, 13, 14)]  # on three of them nobody looked
    for day in days:
        found = [
            one
            for number, one in enumerate(report.findings)
            if number * 7919 % 20 >= day - 4 or (day > 10 and chance.random() < 0.15)
        ]
        zones = []
        for line in report.audit.zones:
            faults = sum(
                one.weight == "fault" and one.owner.endswith(line.zone) and one.view == line.view for one in found
            )
            zones.append(replace(line, checks={"pairs": Tally(agrees=1, faults=faults)}))
        add_run(history, FinishedRun("", report.started - timedelta(days=day), report.seconds, "differs", found, zones))


def main(wanted: list[str]) -> None:
    install()
    FOLDER.mkdir(parents=True, exist_ok=True)
    screen = subprocess.Popen(["Xvfb", DISPLAY, "-screen", "0", "1280x800x24"], stderr=subprocess.DEVNULL)
    programs = Path(sys.executable).parent
    environment = os.environ | {
        "DISPLAY": DISPLAY,
        "PATH": f"{programs}{os.pathsep}{os.environ['PATH']}",
        "TERM": "xterm-256color",
    }
    try:
        time.sleep(1)
        with tempfile.TemporaryDirectory() as folder, gullmarsh(Path(folder)) as (estate, servers):
            environment["SALT_MIRROR_RESOLVERS"] = ""
            os.chdir(estate.parent)
            for name, lines in PICTURES.items():
                if not wanted or name in wanted:
                    picture(name, [f"salt-mirror {line}" for line in lines], environment, small=name in SMALL)
            if not wanted or "page" in wanted:
                page = Path(folder) / "audit.html"
                subprocess.run(
                    ["salt-mirror", "audit", "--report", f"html:{page}"],
                    env=environment,
                    check=False,
                    capture_output=True,
                )
                photograph(page, FOLDER / "page.png", 1)
            if not wanted or "history" in wanted:
                page = Path(folder) / "past.html"
                keep_a_past(estate, Path(folder) / "audits.db")
                subprocess.run(
                    ["salt-mirror", "history", str(Path(folder) / "audits.db"), "--report", f"html:{page}"],
                    env=environment, check=True, capture_output=True,
                )  # fmt: skip
                photograph(page, FOLDER / "history.png", 1)
            if not wanted or "settle-figure" in wanted:
                fill_caches(servers, "shop.gullmarsh.example", "A")
                threading.Thread(target=move_the_shop, args=(servers,), daemon=True).start()
                figure = FOLDER / "settle-figure.png"
                watch = (
                    f"salt-mirror settle shop.gullmarsh.example A --to 192.0.2.12 --at branches,providers "
                    f"--speed {SPEED:.0f}"
                )
                subprocess.run(
                    [*watch.split(), "--figure", str(figure)], env=environment, check=True, capture_output=True
                )
                print(f"wrote {figure}")
            if not wanted or "vantages" in wanted:
                with stationed(estate, servers):
                    seen = [
                        "vantage list",
                        "ask web.gullmarsh.example A --from everywhere",
                        "views web.gullmarsh.example --from everywhere",
                    ]
                    picture("vantages", [f"salt-mirror {line}" for line in seen], environment, small=True)
    finally:
        screen.terminate()
        screen.wait()


if __name__ == "__main__":
    main(sys.argv[1:])
