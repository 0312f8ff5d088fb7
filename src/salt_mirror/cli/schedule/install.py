"""Jobs handed to this system's scheduler: systemd's user manager, or a user's crontab.

Strategy: only these two, which can be tried wherever the tests run; for the others the one command to type is said. A crontab
is read, the lines between our marks are replaced, and everything else stays as it is.
"""

from __future__ import annotations

import os
import shutil
import subprocess
from pathlib import Path

from salt_mirror.cli.schedule.forms import CRON_BEGIN, CRON_END, ScheduleFile
from salt_mirror.estate.errors import BadInput
from salt_mirror.keeping.writing import write_whole

ABLE = ("systemd", "cron")
"""The schedulers that jobs are handed to."""


def install(form: str, files: list[ScheduleFile]) -> str:
    """Install the files, and return what was done. Raises BadInput where the scheduler refuses."""
    return _systemd(files) if form == "systemd" else _cron(files[0])


def to_type(form: str, files: list[ScheduleFile], folder: Path) -> list[str]:
    """Return the commands by which somebody installs files that are in a folder."""
    names = [file.name for file in files]
    if form == "systemd":
        timers = " ".join(name for name in names if name.endswith(".timer"))
        return [
            f"mkdir -p ~/.config/systemd/user && cp {folder}/salt-mirror-*.service {folder}/salt-mirror-*.timer "
            "~/.config/systemd/user/",
            f"systemctl --user daemon-reload && systemctl --user enable --now {timers}",
            "loginctl enable-linger    # so that they run while you are not logged on",
        ]
    if form == "cron":
        return [f"(crontab -l 2>/dev/null; cat {folder / names[0]}) | crontab -"]
    if form == "windows":
        return [f'schtasks /Create /TN "{Path(name).stem}" /XML "{folder / name}"' for name in names]
    return [f"launchctl bootstrap gui/$(id -u) {folder / name}" for name in names]


def _systemd(files: list[ScheduleFile]) -> str:
    base = Path(os.environ.get("XDG_CONFIG_HOME") or Path.home() / ".config")
    folder = base / "systemd" / "user"
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise BadInput(f"--install: {folder} cannot be made: {error.strerror}") from None
    for file in files:
        write_whole(folder / file.name, file.text, "--install")
    timers = [file.name for file in files if file.name.endswith(".timer")]
    _run(["systemctl", "--user", "daemon-reload"])
    _run(["systemctl", "--user", "enable", "--now", *timers])
    return f"{len(timers)} timers are enabled: {', '.join(timers)}, in {folder}. They run while you are logged on; " + (
        "`loginctl enable-linger` lets them run always."
    )


def _cron(file: ScheduleFile) -> str:
    listed = _run(["crontab", "-l"], may_fail=True)
    kept, ours = [], False
    for line in listed.splitlines():
        if line == CRON_BEGIN:
            ours = True
        if not ours:
            kept.append(line)
        if line == CRON_END:
            ours = False
    if ours:
        raise BadInput(f'--install: the crontab has "{CRON_BEGIN}" without its end; mend it with crontab -e')
    text = "".join(f"{line}\n" for line in kept) + file.text
    _run(["crontab", "-"], text)
    jobs = sum(not line.startswith("#") for line in file.text.splitlines())
    return f"{jobs} jobs are in your crontab (crontab -l shows them)."


def _run(words: list[str], given: str | None = None, *, may_fail: bool = False) -> str:
    """Run a program of the scheduler, and return what it printed. Raises BadInput with its words where it fails."""
    if shutil.which(words[0]) is None:
        raise BadInput(f"--install: there is no {words[0]} here")
    done = subprocess.run(
        words,
        input=given,
        stdin=subprocess.DEVNULL if given is None else None,
        capture_output=True,
        text=True,
        check=False,
    )
    if done.returncode and not may_fail:
        said = (done.stderr or done.stdout).strip().splitlines()
        raise BadInput(f"--install: {' '.join(words[:3])}: {said[0] if said else f'status {done.returncode}'}")
    return done.stdout if not done.returncode else ""
