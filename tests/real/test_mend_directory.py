"""`mend` against a real directory server, whose zones take changes by Kerberos alone. Never in CI: it needs root, Debian's
packages, and the extra `kerberos`."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest

from support.directory import DOMAIN, InDirectory, directory_server, missing
from support.program import PROGRAM, Outcome

pytestmark = [pytest.mark.real, pytest.mark.skipif(bool(missing("gssapi")), reason=missing("gssapi"))]


@pytest.fixture(scope="module")
def directory(tmp_path_factory: pytest.TempPathFactory) -> Iterator[InDirectory]:
    with directory_server(tmp_path_factory.mktemp("directory")) as server:
        yield server


def lay_out(folder: Path, more: str = "short_signature = true\n") -> None:
    text = '[servers.dc1]\naddress = "127.0.0.1"\n[reach]\n"10.99.0.10" = "127.0.0.1"\n'
    for zone, expect in ((DOMAIN, 'expect = ["hosts.zone"]\n'), ("10.99.0.0/24", "")):
        text += f'[[zones]]\nname = "{zone}"\nservers = ["dc1"]\nkerberos = true\n{more}{expect}'
    (folder / "estate.toml").write_text(text, encoding="utf-8")
    (folder / "hosts.zone").write_text(
        'brine A 10.99.0.50\nrake A 10.99.0.52\nrake TXT "a; \\"b\\""\n', encoding="utf-8"
    )


def test_a_directory_takes_changes_by_ticket_and_the_way_back(directory: InDirectory, tmp_path: Path) -> None:
    lay_out(tmp_path)

    def mend(*options: str, user: str = "administrator") -> Outcome:
        return directory(str(PROGRAM), "mend", *options, user=user, cwd=tmp_path)

    nobody = mend("--apply", "--yes", "--undo", "none", user="nobody")
    assert nobody.status == 1 and nobody.out.startswith("0 of 5 changes were carried out")
    assert "no Kerberos context with dc1" in nobody.out and "is there a ticket?" in nobody.out
    done = mend("--apply", "--yes", "--undo", "undo", "--json").report
    assert [one["says"] for one in done["plan"]["carried"]] == ["done"] * 5 and not done["plan"]["late"]
    assert not [one for one in done["findings"] if one["weight"] == "fault"]
    assert mend("--json").report["plan"]["changes"] == []
    back = mend("--back", "undo", "--yes", "--undo", "again")
    assert back.status == 0 and back.out.startswith("5 of 5 sets restored.")
    # Its signatures leave out a length. Where that was not accepted, what the server has is the proof, and it is told.
    lay_out(tmp_path, "")
    strict = mend("--apply", "--yes", "--undo", "third")
    assert strict.out.startswith("5 of 5 changes were carried out") and "short_signature = true" in strict.out
    assert "is not signed with the key" in strict.out
    unsigned = directory(str(PROGRAM), "authority", DOMAIN, "--try-updates", "--json", cwd=tmp_path).report
    assert [row["updates"] for row in unsigned["sheets"][0]["servers"]] == ["refused unsigned"]
