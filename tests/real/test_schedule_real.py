"""`salt-mirror schedule` against the schedulers themselves: systemd's user manager, cron, and the rules of Task Scheduler.

Strategy: systemd and cron run in namespaces of the test's own, in which /run and the crontabs are empty, and all processes end
with the test; nothing of this computer's own jobs is seen or touched.
"""

from __future__ import annotations

import os
import plistlib
import shlex
import shutil
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest
import xmlschema

from salt_mirror.cli.schedule.forms import TASK_NAMESPACE
from salt_mirror.standin.authority import read_zone
from salt_mirror.standin.server import StandIns
from support.estates import lay_out
from support.program import PROGRAM, Run
from support.realservers import program
from support.waiting import PATIENCE_S

pytestmark = pytest.mark.real
ZONE = "@ 60 SOA ns h 1 7200 1800 1209600 60\n@ 60 NS ns\nns 60 A 192.0.2.1\n"
TASK = Path(__file__).parents[1] / "support" / "task.xsd"


@pytest.fixture
def odd(tmp_path: Path, standins: StandIns) -> Path:
    """An estate in a folder whose name means something to every scheduler."""
    folder = tmp_path / "salt $HOME 100% 'n\" so; on"
    folder.mkdir()
    server = standins.add([read_zone(ZONE, "salt.invalid")])
    channel = '[notify.duty]\nfile = "sent.jsonl"\nquiet = "22:00-06:00"\n'
    lay_out(folder / "estate.toml", "salt.invalid", {"one": server.port}, channel)
    return folder / "estate.toml"


def in_a_namespace(script: str, folder: Path) -> str:
    """What a shell prints in namespaces in which /run and the crontabs are empty."""
    if not hasattr(os, "geteuid") or os.geteuid() or sys.platform != "linux":
        pytest.skip("a mount namespace wants root, on Linux")
    program("cron")
    program("systemd-analyze")
    begin = "set -e; mount -t tmpfs none /run; mkdir -p /run/systemd/system /run/user /var/spool/cron/crontabs; "
    begin += "mount -t tmpfs none /var/spool/cron/crontabs; "
    begin += (
        "mount -t tmpfs none /dev/shm; "  # faketime's semaphores have the numbers of processes, which begin anew here
    )
    for name in ("home", "runtime"):
        (folder / name).mkdir(mode=0o700)
    environment = os.environ | {
        "HOME": str(folder / "home"), "XDG_RUNTIME_DIR": str(folder / "runtime"), "SALT_MIRROR_RESOLVERS": "",
        "PATH": f"{os.environ['PATH']}:/usr/sbin",
    }  # fmt: skip
    environment.pop("XDG_CONFIG_HOME", None)
    done = subprocess.run(
        ["unshare", "--mount", "--pid", "--mount-proc", "--fork", "--kill-child", "sh", "-c", begin + script],
        cwd=folder, env=environment, capture_output=True, text=True, timeout=PATIENCE_S, check=False,
    )  # fmt: skip
    assert done.returncode == 0, done.stdout + done.stderr
    return done.stdout


def test_systemds_units_are_sound_and_its_user_manager_runs_them(odd: Path, run: Run, tmp_path: Path) -> None:
    for every in ("night", "03:15", "1m", "15m", "1h", "6h", "1d"):
        units = tmp_path / every.replace(":", "-")
        units.mkdir()
        said = run("schedule", "--every", every, "--estate", str(odd), "--print", "systemd", "--write", str(units)).out
        assert "systemctl --user enable --now salt-mirror-audit.timer salt-mirror-check.timer" in said
        done = subprocess.run(
            [program("systemd-analyze"), "verify", "--man=no", *map(str, units.iterdir())],
            capture_output=True, text=True, check=False,
        )  # fmt: skip
        assert (done.returncode, done.stderr) == (0, ""), every
    call = shlex.join(
        [str(PROGRAM), "schedule", "--estate", str(odd), "--notify", "duty", "--print", "systemd", "--install"]
    )
    out = in_a_namespace(
        "/lib/systemd/systemd --user --unit=basic.target >manager 2>&1 & "
        "until systemctl --user is-system-running >/dev/null 2>&1; do sleep 0.05; done; "
        f"{call}; systemctl --user list-timers --all --no-legend; "
        "for job in audit check held-duty; do systemctl --user start salt-mirror-$job.service; done; "
        "systemctl --user show -p Result salt-mirror-audit.service",
        tmp_path,
    )
    assert "3 timers are enabled" in out and "salt-mirror-held-duty.timer" in out and "Result=success" in out
    assert " 02:30:00 " in out and " 08:00:00 " in out and " 06:00:00 " in out
    runs = run("history", str(odd.with_name("audits.db")), "--check", "--at-least-every", "1h")
    assert runs.status == 0 and odd.with_name("audit.prom").read_text(encoding="utf-8").endswith("# EOF\n")


def test_cron_takes_the_jobs_beside_others_and_runs_them(odd: Path, run: Run, tmp_path: Path) -> None:
    program("faketime")
    call = shlex.join([str(PROGRAM), "schedule", "--estate", str(odd), "--every", "1m", "--print", "cron", "--install"])
    kept = shlex.quote(str(odd.with_name("audits.db")))
    out = in_a_namespace(
        f'echo "5 4 * * 0 true # of somebody else" | crontab -; {call}; {call}; crontab -l; '
        # Three seconds before the minute, and with the clock of the day: a minute is not waited for.
        "faketime -f '@2026-11-29 23:59:57' cron -f & "
        f"until {shlex.quote(str(PROGRAM))} history {kept} 2>/dev/null | grep -q '1 run'; do sleep 0.2; done",
        tmp_path,
    )
    assert out.count("5 4 * * 0 true # of somebody else") == 1
    assert (
        out.count("# salt-mirror schedule: begin") == 1 and out.count("\n* * * * * ") + out.count("\n*/1 * * * * ") == 1
    )
    assert "2 jobs are in your crontab" in out
    assert run("history", str(odd.with_name("audits.db"))).out.splitlines()[1].startswith("1 run")


def test_windows_tasks_are_as_their_schema_has_them_and_launchds_lists_are_whole(
    odd: Path, run: Run, tmp_path: Path
) -> None:
    schema = xmlschema.XMLSchema(TASK.read_text(encoding="utf-8").replace("@NAMESPACE@", TASK_NAMESPACE))
    for every, begins, interval in (
        ("night", "T02:30:00", None),
        ("15m", "T00:00:00", "PT15M"),
        ("6h", "T00:00:00", "PT360M"),
    ):
        folder = tmp_path / every
        folder.mkdir()
        call = ("schedule", "--every", every, "--estate", str(odd), "--write", str(folder), "--print")
        said = run(*call, "windows").out
        assert f'schtasks /Create /TN "salt-mirror-audit" /XML "{folder / "salt-mirror-audit.xml"}"' in said
        for path in folder.glob("*.xml"):
            schema.validate(path)
        task: Any = schema.to_dict(folder / "salt-mirror-audit.xml")
        trigger, action = task["Triggers"]["CalendarTrigger"][0], task["Actions"]["Exec"][0]
        assert trigger["StartBoundary"].endswith(begins)
        assert (trigger["Repetition"]["Interval"] if "Repetition" in trigger else None) == interval
        assert Path(action["Command"]).name == PROGRAM.name and f"{odd}".replace('"', '\\"') in action["Arguments"]
        assert "launchctl bootstrap" in run(*call, "launchd").out
        job = plistlib.loads((folder / "internal.salt-mirror.audit.plist").read_bytes())
        assert job["ProgramArguments"][-1].startswith("openmetrics:") and str(odd) in job["ProgramArguments"]
        assert ("StartInterval" in job) == (interval is not None)
    shutil.rmtree(tmp_path / "night")
    wrong = (tmp_path / "15m" / "salt-mirror-audit.xml").read_text(encoding="utf-16").replace("<Enabled>", "<Enable>")
    with pytest.raises(xmlschema.XMLSchemaValidationError):
        schema.validate(wrong.replace("</Enabled>", "</Enable>"))
