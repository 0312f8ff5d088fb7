"""A directory of 20 domain controllers in 50 sites, registered in full, on two real NSD: python bench/directory.py

Its whole locator set is called by `services`, and the same for a tenth of it; questions and time of the two, by ratios.
"""

from __future__ import annotations

import subprocess
import sys
import tempfile
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent))

import world
from world import nsd

from salt_mirror.checks.common.directories import Controller, Directory, all_wanted, wanted_of
from salt_mirror.dns.names import from_text, to_text

DOMAIN = "pans.example"
PROGRAM = Path(sys.executable).with_name("salt-mirror")
GUID = "5a17e000-0a00-4000-8000-00000000{:04x}"


def directory(controllers: int, sites: int) -> Directory:
    """A domain with its controllers spread over the first of its sites; those without one are covered by the first."""
    names = tuple(f"site-{number}" for number in range(sites))
    found = tuple(
        Controller(
            from_text(f"dc{number}.{DOMAIN}"), names[number % sites],
            frozenset(("global-catalog", "pdc-emulator") if not number else ("global-catalog",)), GUID.format(number),
        )
        for number in range(controllers)
    )  # fmt: skip
    return Directory(from_text(DOMAIN), from_text(DOMAIN), "", GUID.format(0xFFFF), names, found)


def zone_of(whole: Directory) -> str:
    """The zone with every record that its domain controllers have to register, and the sites without one covered."""
    lines = []
    for number, one in enumerate(whole.controllers):
        address = f"10.77.{number}.10"
        lines.append(f"{to_text(one.host)} 600 A {address}")
        for wanted in wanted_of(whole, one):
            value = {"SRV": f"0 100 {wanted.row.port} {to_text(one.host)}", "CNAME": to_text(one.host), "HOST": address}
            kind = {"HOST": "A"}.get(wanted.row.kind, wanted.row.kind)
            lines.append(f"{to_text(wanted.name)} 600 {kind} {value[wanted.row.kind]}")
    taken = {one.site for one in whole.controllers}
    for site in whole.sites:
        if site not in taken:
            rows = (f"_ldap._tcp.{site}._sites.dc._msdcs", f"_ldap._tcp.{site}._sites")
            lines += [f"{row}.{DOMAIN}. 600 SRV 0 100 389 dc0.{DOMAIN}." for row in rows]
    return f"{world.HEAD}ns A 127.0.0.1\n" + "\n".join(dict.fromkeys(lines)) + "\n"


def estate_of(whole: Directory, ports: list[int]) -> str:
    labels = [f"s{number}" for number in range(len(ports))]
    text = f'[[zones]]\nname = "{DOMAIN}"\nservers = {labels}\n'
    text += "".join(
        f'[servers.{one}]\naddress = "127.0.0.1"\nport = {port}\n' for one, port in zip(labels, ports, strict=True)
    )
    text += f'[[directories]]\ndomain = "{DOMAIN}"\nguid = "{whole.guid}"\nsites = {list(whole.sites)}\n'
    for one in whole.controllers:
        host, roles = to_text(one.host).rstrip("."), sorted(one.roles)
        text += (
            f'[[directories.controllers]]\nhost = "{host}"\nsite = "{one.site}"\nroles = {roles}\nguid = "{one.guid}"\n'
        )
    return text


def called(folder: Path, whole: Directory) -> tuple[float, int, str]:
    """Seconds, questions, and the first line of `services`, the median of three runs."""
    texts = {DOMAIN: zone_of(whole)}
    folder.mkdir()
    with nsd(folder / "one", texts) as first, nsd(folder / "two", texts) as second:
        (folder / "estate.toml").write_text(estate_of(whole, [first.port, second.port]), encoding="utf-8")
        took = []
        for _ in range(3):
            before = time.perf_counter()
            done = subprocess.run([str(PROGRAM), "services"], cwd=folder, capture_output=True, text=True, check=False)
            took.append(time.perf_counter() - before)
    says, cost = done.stdout.splitlines()[:2]
    return sorted(took)[1], int(cost.split(" questions")[0].rsplit(maxsplit=1)[-1].replace(",", "")), says


def main() -> None:
    with tempfile.TemporaryDirectory() as name:
        small, large = directory(2, 5), directory(20, 50)
        few, many = called(Path(name) / "small", small), called(Path(name) / "large", large)
        names = len({(one.name, one.row.kind) for one in all_wanted(large)})
        print(f"{many[2]}")
        print(
            f"20 domain controllers, 50 sites, 2 servers: {many[1]:,} questions for {names:,} names in {many[0]:.2f} s"
        )
        print(
            f"against 2 and 5: questions {many[1] / few[1]:.1f}, time {many[0] / few[0]:.1f} ({few[1]:,} in {few[0]:.2f} s)"
        )


if __name__ == "__main__":
    main()
