"""What the benchmarks share: zones of any size, real NSD servers for them, and the C floor."""

from __future__ import annotations

import os
import statistics
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))

from support.realservers import bind as bind
from support.realservers import nsd as nsd
from support.servers import KEY as KEY

HEAD = "$TTL 300\n@ SOA ns.pans.example. h.pans.example. 1 3600 600 86400 300\n@ NS ns.pans.example.\n"


def host(number: int) -> str:
    """A host's first label."""
    return f"h{number:06d}"


def address(number: int) -> str:
    """A host's address, in 10.0.0.0/8."""
    return f"10.{number >> 16}.{number >> 8 & 255}.{number & 255}"


def zones(hosts: int) -> dict[str, str]:
    """One forward and one reverse zone as master files."""
    forward = "".join(f"{host(n)} A {address(n)}\n" for n in range(hosts))
    reverse = "".join(f"{n & 255}.{n >> 8 & 255}.{n >> 16} PTR {host(n)}.pans.example.\n" for n in range(hosts))
    return {"pans.example": f"{HEAD}ns A 127.0.0.1\n{forward}", "10.in-addr.arpa": HEAD + reverse}


def estate(folder: Path, hosts: int, ports: list[int]) -> Path:
    """The estate of these zones on servers at some ports, with every host expected from a CSV file."""
    rows = "".join(f"{host(n)},A,{address(n)}\n" for n in range(hosts))
    (folder / "hosts.csv").write_text("name,type,value\n" + rows, encoding="utf-8")
    labels = [f"server-{number}" for number, _ in enumerate(ports, 1)]
    names = "[" + ", ".join(f'"{label}"' for label in labels) + "]"
    text = f'[[zones]]\nname = "pans.example"\nservers = {names}\nexpect = ["hosts.csv"]\n'
    text += f'[[zones]]\nname = "10.0.0.0/8"\nservers = {names}\n'
    for label, port in zip(labels, ports, strict=True):
        text += f'[servers.{label}]\naddress = "127.0.0.1"\nport = {port}\n'
    path = folder / "estate.toml"
    path.write_text(text, encoding="utf-8")
    return path


def other_version() -> dict[str, str] | None:
    """The environment in which another version is run, where `--against SRC` names its `src` folder."""
    if "--against" not in sys.argv:
        return None
    return os.environ | {"PYTHONPATH": sys.argv[sys.argv.index("--against") + 1]}


def build_floor(folder: Path) -> Path:
    """Compiles the C floor with the machine's compiler."""
    program = folder / "floor"
    source = Path(__file__).with_name("floor.c")
    subprocess.run(["cc", "-O2", "-o", str(program), str(source)], check=True)
    return program


def floor_rate(program: Path, port: int, names: Path) -> float:
    """Answers a second of the C floor."""
    done = subprocess.run(
        [str(program), "127.0.0.1", str(port), str(names)], check=True, capture_output=True, text=True
    )
    answers, seconds = done.stdout.split()
    return int(answers) / float(seconds)


def median_of(rounds: int, measure: Callable[[], float]) -> float:
    """The median of several measurements."""
    return statistics.median(measure() for _ in range(rounds))
