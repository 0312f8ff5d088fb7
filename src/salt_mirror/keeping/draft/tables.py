"""What was learnt, as tables of an estate file, each line with where it comes from.

Strategy: text, since a file that people go on with by hand is more than its data: every table has its sentence. What came from
the network is a name or an address, and is quoted by TOML's rules.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass, field
from pathlib import PurePosixPath

from salt_mirror.checks.common.wording import many
from salt_mirror.checks.draft.learnt import Learnt, LearntServer, LearntZone, bare
from salt_mirror.dns.names import Name, label_text, labels, printable
from salt_mirror.dns.questions import Server
from salt_mirror.dns.reverse import address_text
from salt_mirror.dns.system import DNS_PORT
from salt_mirror.estate.directory.found import FoundDirectory, FoundNetwork
from salt_mirror.estate.file import ROLE_WORDS
from salt_mirror.estate.model import Estate

_WIDE = 96
_FEW = 3


@dataclass(slots=True)
class Labels:
    """The label of each server: the one that the estate has for it, else the first label of its name, else its address."""

    known: dict[Server, str] = field(default_factory=dict)

    @classmethod
    def of(cls, learnt: Learnt, estate: Estate) -> Labels:
        """Return labels for every server that was learnt, unlike one another and unlike those of the estate."""
        found = {server: label for label, server in estate.servers.items()}
        taken = {*found.values(), *estate.resolvers}
        written = learnt.written
        for server, one in sorted(learnt.servers.items(), key=lambda known: -len(learnt.serving(known[0]))):
            if server not in found:
                found[server] = _free(_ways_to_call(one), taken) if one in written else _described(one)
                taken.add(found[server])
        return cls(found)

    def of_zone(self, zone: LearntZone) -> list[str]:
        """Return the labels of the servers that answer for a zone."""
        return sorted(self.known[server] for server in zone.servers)


def _ways_to_call(learnt: LearntServer) -> list[str]:
    if learnt.name is None:
        return [learnt.server.endpoint if learnt.server.port != DNS_PORT else learnt.server.host]
    whole = bare(learnt.name)
    return [label_text(labels(learnt.name)[0]), whole]


def _described(learnt: LearntServer) -> str:
    """Return a server that gets no label: its name, and where it was asked."""
    where = address_text(learnt.published) if learnt.published is not None else learnt.server.endpoint
    return f"{bare(learnt.name)} ({where})" if learnt.name is not None else where


def _free(ways: list[str], taken: Collection[str]) -> str:
    numbered = (f"{ways[-1]}-{number}" for number in range(2, len(taken) + 3))
    return next(way for way in (*ways, *numbered) if way not in taken)


def quoted(text: str) -> str:
    """Return a text as a basic string of TOML (v1.0.0, Strings); what cannot be printed is escaped by its rules, not JSON's."""
    return f'"{"".join(map(_escaped, text))}"'


def _escaped(one: str) -> str:
    if one in '"\\':
        return f"\\{one}"
    if one.isprintable():
        return one
    return "\\uFFFD" if 0xD800 <= ord(one) <= 0xDFFF else f"\\U{ord(one):08X}"


def zone_table(zone: LearntZone, learnt: Learnt, names: Labels, files: Collection[str]) -> str:
    """`[[zones]]`, with who answers for it and who does not."""
    network = zone.network
    name = str(network) if network is not None else bare(zone.apex)
    lines = _comment(f"{bare(zone.apex)} {zone.whence}." if network is not None else f"{_whole(zone.whence)}.")
    for server, in_vain in zone.others.items():
        what = f"{names.known[server]} is {in_vain.whence}, and does not answer for it: {in_vain.how}."
        lines += _comment(what)
    if zone.partition:
        lines += _comment(f"The directory keeps it in {zone.partition}.")
    lines += ["[[zones]]", f"name = {quoted(name)}"]
    if learnt.view:
        lines.append(f"view = {quoted(learnt.view)}")
    lines.append(f"servers = [{', '.join(map(quoted, names.of_zone(zone)))}]")
    if zone.held_by is not None:
        lines.append(_with_why("transfer = true", f"{names.known[zone.held_by]} hands it over"))
    if zone.signed_changes:
        why = "the directory only takes changes signed with a ticket"
        if not zone.updates_told:
            why = "secure dynamic updates, as is usual: the directory does not say"
        lines.append(_with_why("kerberos = true", why))
    if zone.short_signature:
        lines.append(_with_why("short_signature = true", "as its answer to an empty change was signed"))
    if files:
        lines.append(f"expect = [{', '.join(map(quoted, files))}]")
    return "\n".join(lines) + "\n"


def server_table(one: LearntServer, learnt: Learnt, names: Labels, key: str) -> str:
    """`[servers.LABEL]`, with what it answers for."""
    server = one.server
    zones = learnt.serving(server)
    sent = [zone.apex for zone, _ in learnt.sending_to(server)]
    text = f"{_whole(one.whence)}; answers with authority for {many(len(zones), 'zone') if zones else 'no zone'}"
    some = ", ".join(map(bare, sent[:_FEW])) + (" and others" if len(sent) > _FEW else "")
    text += f", and not for {some} that {'names' if len(sent) == 1 else 'name'} it." if sent else "."
    lines = [*_comment(text), f"[servers.{_key(names.known[server])}]"]
    if one.published is not None:
        lines.append(f"address = {quoted(address_text(one.published))}")
    else:
        lines.append(f"address = {quoted(server.host)}")
        lines += [f"port = {server.port}"] if server.port != DNS_PORT else []
    lines += [f"key = {quoted(key)}"] if key else []
    return "\n".join(lines) + "\n"


def resolver_table(label: str, server: Server) -> str:
    """`[resolvers.LABEL]` for one that this computer uses."""
    port = f"port = {server.port}\n" if server.port != DNS_PORT else ""
    return f"# This computer's own.\n[resolvers.{_key(label)}]\naddress = {quoted(server.host)}\n{port}"


def key_table(name: str, file: str) -> str:
    """`[keys.NAME]`: the name alone; its secret stays where it is."""
    return f"# Given; the secret stays in its file.\n[keys.{_key(name)}]\nsecret_file = {quoted(file)}\n"


def isolated_table() -> str:
    """`[resolver_tests]` where none of this computer's resolvers finds a name of the world."""
    return (
        "# None of this computer's resolvers resolves a public name: the network is taken for one without Internet access.\n"
        "[resolver_tests]\nexternal = []\n"
    )


def network_table(network: FoundNetwork) -> str:
    """`[networks."…"]` for a network of a directory's, with its site."""
    site = f"site = {quoted(network.site)}\n" if network.site else ""
    return f"# In the directory.\n[networks.{quoted(network.network)}]\n{site}"


def found_directory_table(directory: FoundDirectory, view: str, log_on: Mapping[str, str]) -> str:
    """`[[directories]]` for a directory that was read, with how to read it again (`directory` and whose password, by the keys
    of the estate); what it told of its domain controllers is a comment, since it is read anew each time."""
    lines = _comment("Read from the directory itself, and read again by each command that needs it.")
    for controller in directory.controllers:
        what = ", ".join(
            [f"in {controller.site}"] * bool(controller.site) + [ROLE_WORDS[role] for role in controller.roles]
        )
        lines += _comment(f"Domain domain controller {controller.host}{f': {what}' if what else ''}.")
    lines += ["[[directories]]", f"domain = {quoted(directory.domain)}"]
    lines += [f"view = {quoted(view)}"] if view else []
    lines += [f"{key} = {quoted(value)}" for key, value in log_on.items() if value]
    return "\n".join(lines) + "\n"


def directory_table(domain: Name, sites: Collection[str], view: str) -> str:
    """`[[directories]]` for a domain whose locators were seen; its controllers are found by those."""
    lines = [
        "# Its locator records were seen, and domain controllers are found by them; draft --directory declares each.",
        "[[directories]]", f"domain = {quoted(bare(domain))}",
    ]  # fmt: skip
    lines += [f"view = {quoted(view)}"] if view else []
    lines += [f"sites = [{', '.join(map(quoted, sites))}]"] if sites else []
    return "\n".join(lines) + "\n"


def _key(label: str) -> str:
    """Return a label as a key of TOML: bare where it can be."""
    bare = label.replace("-", "").replace("_", "")
    return label if bare.isascii() and bare.isalnum() else quoted(label)


def _whole(sentence: str) -> str:
    return sentence[:1].upper() + sentence[1:]


def _with_why(line: str, why: str) -> str:
    return f"{line:<39}# {printable(why)}"


def _comment(text: str) -> list[str]:
    """Return a text as lines of comment, none too long to be read."""
    lines, words = [""], printable(text).split()
    for word in words:
        if len(lines[-1]) + len(word) > _WIDE:
            lines.append("")
        lines[-1] += f" {word}"
    return [f"#{line}" for line in lines]


def records_folder(view: str) -> PurePosixPath:
    """Return where the records of a view lie, beside the estate."""
    return PurePosixPath("records") / plain(view) if view else PurePosixPath("records")


def file_names(zones: Collection[LearntZone], view: str) -> Mapping[Name, PurePosixPath]:
    """Return a file below `records/` for each zone, of characters that every file system takes, no two the same."""
    found: dict[Name, PurePosixPath] = {}
    folder = records_folder(view)
    taken: set[str] = set()
    for zone in zones:
        first = plain(bare(zone.apex))
        name, number = first, 1
        while name in taken:
            number += 1
            name = f"{first}-{number}"
        taken.add(name)
        found[zone.apex] = folder / f"{name}.zone"
    return found


_RESERVED = frozenset(("con", "prn", "aux", "nul", *(f"{port}{n}" for port in ("com", "lpt") for n in range(1, 10))))


def plain(text: str) -> str:
    """Return a text as the name of a file or a folder that every system takes."""
    kept = "".join(one if one.isascii() and (one.isalnum() or one in "-._") else "-" for one in text.lower())[
        :150
    ].strip(".")
    return f"_{kept}" if not kept or kept.split(".")[0] in _RESERVED else kept
