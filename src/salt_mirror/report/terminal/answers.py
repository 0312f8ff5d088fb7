"""What servers answered, for people: the values first, then who said so; several servers side by side, differences marked.

Strategy: one name at a time, since names may come from a prompt or a list without end. The order of a server's answer says
nothing (servers rotate), so sets are compared, and shown sorted by preference or priority.
"""

from __future__ import annotations

from collections.abc import Generator, Sequence
from typing import TextIO

from rich.text import Text

from salt_mirror.checks.ask.judging import Asked, TypeAnswer
from salt_mirror.checks.common.wording import duration, labels_of, mailbox
from salt_mirror.dns.names import to_text
from salt_mirror.dns.questions import Server
from salt_mirror.dns.records import MX, SOA, SRV, TXT, rdata_text, soa_fields, type_text
from salt_mirror.dns.reverse import address_of, address_text
from salt_mirror.report.cleaning import clean
from salt_mirror.report.terminal.console import console_on, put_line

_HEAD_FLAGS = (
    (0x8000, "QR"),
    (0x0400, "AA"),
    (0x0200, "TC"),
    (0x0100, "RD"),
    (0x0080, "RA"),
    (0x0020, "AD"),
    (0x0010, "CD"),
)
_FEW_TYPES = 3
_Row = tuple[str, bool, str, list[str]]
"""A row of several servers' answers: the type where it is the first of it, whether they differ, the value, a cell each."""
_OVERS = {"tcp": "over TCP", "tls": "over TLS", "https": "over HTTPS"}


class AnswerPage:
    """Prints names and what servers told about them to a file, one after the other."""

    def __init__(self, file: TextIO, *, detail: bool = False, raw: bool = False) -> None:
        """`detail` adds the header, sizes and sections of each message, `raw` its bytes as well."""
        self._console = console_on(file)
        self._detail = detail
        self._raw = raw

    def show(self, asked: Asked, typed: str) -> None:
        """Show one name; `typed` is what was asked for before it was completed."""
        self._line(Text(headline(asked), style=_mood(asked)))
        if typed.rstrip(".").lower() != to_text(asked.name).rstrip(".") and address_of(asked.name) is None:
            self._line(Text(f"{clean(typed)} was taken as {to_text(asked.name)}", style="dim"))
        servers = list(dict.fromkeys(told.server for told in asked.told))
        if len(servers) > 1:
            if asked.usable:
                self._matrix(asked, servers)
        else:
            for rdtype in asked.rdtypes:
                for answer in asked.at(rdtype):
                    if answer.values:
                        self._alone(rdtype, answer)
            nobody = next((one for one in asked.told if one.usable), None)
            if nobody is not None and not asked.answered:
                self._line(Text(source(nobody), style="dim"), 8)
        self._silent(asked)
        for why in asked.why:
            self._line(Text.assemble(("why   ", "cyan"), why), 2)
        if self._detail:
            for answer in asked.told:
                self._message(answer)
        self._line()

    def _line(self, text: Text | str = "", indent: int = 0) -> None:
        put_line(self._console, Text(text) if isinstance(text, str) else text, indent, wrap=self._console.is_terminal)

    def _kind(self, rdtype: int) -> str:
        return f"{type_text(rdtype)} ({rdtype})" if self._detail else type_text(rdtype)

    def _alone(self, rdtype: int, answer: TypeAnswer) -> None:
        """One server: a line for each value, and who said it."""
        for alias in answer.chain:
            self._line(f"{'alias':<6}of {to_text(alias)}", 2)
        rows = in_order(rdtype, answer.values) if rdtype != SOA else [("", "")] * len(answer.values)
        width = max((len(text) for text, _ in rows), default=0)
        for number, (text, note) in enumerate(rows):
            kind = f"{self._kind(rdtype)} " if number == 0 else ""
            self._line(
                Text.assemble((f"{kind:<6}", "bold"), f"{text:<{width}}", (f"  {note}" if note else "", "dim")), 2
            )
        if rdtype == SOA and answer.values:
            self._soa(answer.values[0])
        self._line(Text(f"      {source(answer)}", style="dim"), 2)

    def _matrix(self, asked: Asked, servers: list[Server]) -> None:
        """Several servers side by side: a row for each value, a column for each server, and how each of them answered."""
        told = {(one.server, one.answer.question.rdtype): one for one in asked.told}
        rows: list[_Row] = []
        nothing: list[str] = []
        for rdtype in asked.rdtypes:
            here = [told[server, rdtype] for server in servers]
            usable = [one for one in here if one.usable]
            values = sorted({value for one in here for value in one.values})
            texts = {rdata_text(rdtype, value): value for value in values}
            for number, (text, note) in enumerate(in_order(rdtype, values)):
                differs = any(texts[text] not in one.values for one in usable)
                cells = [_cell(one, texts[text]) for one in here]
                rows.append((self._kind(rdtype) if number == 0 else "", differs, f"{text}  {note}".rstrip(), cells))
            if not values and len(asked.rdtypes) > 2 and all(one.denial is not None for one in here):
                nothing.append(self._kind(rdtype))
            elif not values:
                rows.append((self._kind(rdtype), False, "(none)", [_cell(one, b"") for one in here]))
        heads = [clean(server.label)[:24] for server in servers]
        widths = [max([len(head), *(len(cells[at]) for *_, cells in rows)]) for at, head in enumerate(heads)]
        left = max((len(text) for _, _, text, _ in rows), default=0) + 2
        if self._console.is_terminal and 11 + left + sum(widths) + 2 * len(widths) > self._console.width:
            self._blocks(rows, heads)
        else:
            self._side_by_side(rows, heads, widths, left)
        if nothing:
            self._line(Text(f"none of {', '.join(nothing)}", style="dim"), 8)
        for server in servers:
            mine = [told[server, rdtype] for rdtype in asked.rdtypes]
            best = next((one for one in mine if one.values), next((one for one in mine if one.usable), None))
            if best is not None:
                aliases = "".join(f", through the alias {to_text(alias)}" for alias in best.chain)
                self._line(Text(f"{source(best)}{aliases}", style="dim"), 8)

    def _blocks(self, rows: list[_Row], heads: list[str]) -> None:
        """The same on a terminal that is too narrow for it: below each value a line for each server."""
        room = max(map(len, heads)) + 2
        for kind, differs, text, cells in rows:
            self._line(Text.assemble((f"{kind:<7}", "bold"), ("≠ " if differs else "  ", "bold red"), text), 2)
            for head, cell in zip(heads, cells, strict=True):
                self._line(Text.assemble((f"{head:<{room}}", "dim"), cell), 11)

    def _side_by_side(self, rows: list[_Row], heads: list[str], widths: list[int], left: int) -> None:
        head = "  ".join(f"{head:<{width}}" for head, width in zip(heads, widths, strict=True))
        self._line(Text(" " * (9 + left) + head, style="bold"), 2)
        for kind, differs, text, cells in rows:
            line = Text.assemble((f"{kind:<7}", "bold"), ("≠ " if differs else "  ", "bold red"), f"{text:<{left}}")
            for cell, width in zip(cells, widths, strict=True):
                line.append(f"{cell:<{width}}  ", style="bold red" if differs and cell in _ABSENT else "")
            self._line(line, 2)

    def _soa(self, rdata: bytes) -> None:
        """An SOA field by field (RFC 1035 section 3.3.13)."""
        soa = soa_fields(rdata)
        for name, text in (
            ("primary", to_text(soa.mname)),
            ("mailbox", mailbox(soa.rname)),
            ("serial", str(soa.serial)),
            ("refresh", f"{soa.refresh} s ({duration(soa.refresh)})"),
            ("retry", f"{soa.retry} s ({duration(soa.retry)})"),
            ("expire", f"{soa.expire} s ({duration(soa.expire)})"),
            ("negative TTL", f"{soa.minimum} s ({duration(soa.minimum)})"),
        ):
            self._line(f"{name:<20}{text}", 8)

    def _silent(self, asked: Asked) -> None:
        """Servers without a usable answer, each with its reason once."""
        troubles = dict.fromkeys(
            (
                answer.server,
                answer.answer.trouble or f"what {to_text(answer.chain[-1])} has is not known ({answer.open_end})",
            )
            for answer in asked.told
            if not answer.usable
        )
        for server, trouble in troubles:
            self._line(Text(f"      {clean(server.label)} ({server.endpoint}): {trouble}", style="yellow"), 2)

    def _message(self, reply: TypeAnswer) -> None:
        """The message itself: flags, sizes, sections, and the bytes if wanted."""
        answer, message = reply.answer, reply.answer.message
        question = f"{to_text(answer.question.name)} {type_text(answer.question.rdtype)}"
        self._line(
            Text(f"message from {clean(reply.server.label)} ({reply.server.endpoint}) to {question}", style="bold"), 2
        )
        if not message:
            self._line(f"none: {answer.trouble}", 4)
            return
        flags = int.from_bytes(message[2:4], "big")
        set_flags = " ".join(name for bit, name in _HEAD_FLAGS if flags & bit)
        counts = [int.from_bytes(message[at : at + 2], "big") for at in (4, 6, 8, 10)]
        self._line(
            f"id {int.from_bytes(message[:2], 'big')}, {answer.status}, flags {set_flags}, {len(message)} bytes {answer.over}",
            4,
        )
        self._line(
            f"records: question {counts[0]}, answer {counts[1]}, authority {counts[2]}, additional {counts[3]}", 4
        )
        self._line(_edns(message), 4)
        for name, records in zip(("answer", "authority", "additional"), answer.sections, strict=True):
            for record in records:
                text = rdata_text(record.rdtype, record.rdata)
                self._line(
                    f"{name:<11}{to_text(record.owner)}  {record.ttl} s  {type_text(record.rdtype)} ({record.rdtype})  {text}",
                    4,
                )
        if self._raw:
            for at in range(0, len(message), 32):
                self._line(f"{at:04x}  {message[at : at + 32].hex(' ', 2)}", 4)


def _mood(asked: Asked) -> str:
    """Return the colour of the first line; its words say the same."""
    if not asked.usable or asked.differing or asked.doubtful:
        return "bold yellow"
    return "bold green" if asked.answered else "bold red"


def _edns(message: bytes) -> str:
    """Return what a message says of EDNS, in a line (RFC 6891)."""
    import dns.exception
    import dns.message

    try:
        read = dns.message.from_wire(message, ignore_trailing=True)
    except (dns.exception.DNSException, ValueError):
        return "EDNS: cannot be read"
    if read.edns < 0:
        return "no EDNS"
    options = ", ".join(f"{option.otype.name} ({int(option.otype)})" for option in read.options) or "no options"
    return f"EDNS {read.edns}, payload {read.payload} bytes, {'DO, ' if read.ednsflags & 0x8000 else ''}{options}"


def headline(asked: Asked) -> str:
    """Return the answer in one line."""
    address = address_of(asked.name)
    name = address_text(address) if address is not None else to_text(asked.name)
    name += f"  [{clean(asked.view)}]" if asked.view else ""
    number = len({told.server for told in asked.told})
    silent = len(asked.doubtful)
    doubt = f" ({number - silent} of {number} servers answered)" if silent and number > 1 else ""
    if asked.answered:
        parts = []
        for rdtype in asked.rdtypes:
            values = {value for told in asked.at(rdtype) for value in told.values}
            if values:
                differs = ", and the servers differ" if asked.differs(rdtype) else ""
                shown = [text for text, _ in in_order(rdtype, sorted(values))]
                if rdtype == SOA:
                    fields = [soa_fields(value) for value in values]
                    shown = [f"serial {soa.serial} of {to_text(soa.mname)}" for soa in fields]
                more = f" and {len(shown) - 3} more" if len(shown) > 4 else ""
                parts.append(f"{type_text(rdtype)} {', '.join(shown[: 3 if more else 4])}{more}{differs}")
        if len(asked.rdtypes) <= _FEW_TYPES:
            parts += [f"no {type_text(rdtype)}" for rdtype in asked.missing]
        return f"{name}  " + "; ".join(parts) + doubt
    kinds = ", ".join(type_text(rdtype) for rdtype in asked.rdtypes)
    if not asked.usable:
        if asked.led is not None:
            return f"{name}  is an alias of {to_text(asked.led.chain[-1])}; what {kinds} that has is not known"
        return f"{name}  {kinds}: no usable answer"
    if any(told.circle for told in asked.told):
        return f"{name}  is an alias that leads in a circle{doubt}"
    exists = any(told.denial == "nothing of this type" or told.chain for told in asked.told)
    if asked.elsewhere:
        return f"{name}  does not exist here; {'; '.join(asked.elsewhere)}{doubt}"
    return f"{name}  " + (f"has no {kinds}" if exists else "does not exist") + doubt


def in_order(rdtype: int, values: Sequence[bytes]) -> list[tuple[str, str]]:
    """Values as text in the order in which they count (preference, priority, else as sorted), each with a word on pools."""
    if rdtype == TXT:
        # One text, however many strings it was cut into on the wire (RFC 7208 section 3.3 reads it so too).
        return [(rdata_text(TXT, value).replace('" "', ""), "") for value in values]
    if rdtype not in (MX, SRV):
        return [(rdata_text(rdtype, value), "") for value in values]
    rows = []
    for value in sorted(values, key=lambda value: (value[:2], rdata_text(rdtype, value))):
        pool = sum(other[:2] == value[:2] for other in values)
        rows.append((rdata_text(rdtype, value), f"one of a pool of {pool}" if pool > 1 else ""))
    return rows


def source(reply: TypeAnswer, *, short: bool = False) -> str:
    """Return who answered and how: with authority, or from a cache with what is left of its TTL."""
    answer = reply.answer
    if reply.from_cache:
        left = (
            ""
            if reply.ttl is None
            else f", {reply.ttl} s left" + (f" of {reply.whole_ttl} s" if reply.whole_ttl is not None else "")
        )
        how = f"from a cache{left}"
    else:
        how = "authoritative" + (f", TTL {reply.ttl} s" if reply.ttl is not None else "")
    if answer.over in _OVERS:
        how += f", {_OVERS[answer.over]}"
    took = f"{answer.rtt_ms:.1f} ms" if answer.rtt_ms is not None else "no time measured"
    if short:
        return f"{how}, {took}"
    ends = f", its end by {clean(labels_of(reply.ended_by))}" if reply.ended_by else ""
    return f"from {clean(reply.server.label)} ({reply.server.endpoint}), {how}, {took}{ends}"


_ABSENT = frozenset(("no such name", "none", "other values"))


def _cell(answer: TypeAnswer, value: bytes) -> str:
    """Return what one server has to do with one value, in a word or two."""
    if not answer.usable:
        return "no answer"
    if value not in answer.values:
        return "other values" if answer.values else "no such name" if answer.denial == "no such name" else "none"
    return f"cache, {answer.ttl} s" if answer.from_cache else f"{answer.ttl} s"


Printer = Generator[None, tuple[Asked, str], None]
"""Takes what was asked and how it was typed, one name at a time, and prints it."""


def page_printer(file: TextIO, *, detail: bool, raw: bool) -> Printer:
    """Print names for people; `detail` and `raw` as for the page."""
    page = AnswerPage(file, detail=detail, raw=raw)
    while True:
        asked, typed = yield
        page.show(asked, typed)
        file.flush()


def brief_printer(file: TextIO) -> Printer:
    """Print values alone, one a line."""
    while True:
        asked, _ = yield
        for rdtype in asked.rdtypes:
            values = sorted({value for told in asked.at(rdtype) for value in told.values})
            file.writelines(f"{text}\n" for text, _ in in_order(rdtype, values))
        file.flush()


def line_printer(file: TextIO) -> Printer:
    """Print one line an answer, its cells apart by tabs: name, type, TTL in seconds, value, server, status. A name or a type
    that a server does not have keeps its line, with an empty value and NXDOMAIN or NODATA."""
    while True:
        asked, _ = yield
        for told in asked.told:
            rdtype, answer = told.answer.question.rdtype, told.answer
            denied = {"no such name": "NXDOMAIN", "nothing of this type": "NODATA"}.get(told.denial or "", "")
            status = answer.status if told.usable and told.values else denied or answer.trouble or answer.status
            ttl = "" if told.ttl is None else str(told.ttl)
            for value in [text for text, _ in in_order(rdtype, sorted(told.values))] or [""]:
                cells = (to_text(asked.name), type_text(rdtype), ttl, value, told.server.label, status)
                file.write("\t".join(clean(cell.replace("\t", " ")) for cell in cells) + "\n")
        file.flush()
