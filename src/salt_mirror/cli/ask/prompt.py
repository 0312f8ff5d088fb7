"""The prompt of `ask`: a line is what stands behind `ask` on the command line, and is answered at once.

Strategy: a line goes through the command itself, with its own parser and errors, so that the prompt knows nothing that the
command does not; it only keeps options that were typed alone as defaults, remembers what was asked, and completes.
"""

from __future__ import annotations

import os
import shlex
import sys
from collections.abc import Iterable, Iterator, Sequence
from pathlib import Path
from typing import Any

import typer
from prompt_toolkit import PromptSession
from prompt_toolkit.auto_suggest import AutoSuggestFromHistory
from prompt_toolkit.completion import CompleteEvent, Completer, Completion
from prompt_toolkit.document import Document
from prompt_toolkit.history import FileHistory, History, InMemoryHistory

from salt_mirror.cli.completing import OFFERED
from salt_mirror.cli.messages import show, tell
from salt_mirror.dns.errors import Unusable
from salt_mirror.dns.names import to_text
from salt_mirror.dns.records import TYPE_NAMES
from salt_mirror.estate.model import Estate

HELP = """A line is what stands behind ask on the command line:
  press                    the addresses of a name; of an address, its PTR record
  press A MX               some types          press --every      all common types
  press --at dc-north      at one server; authoritative, everywhere and groups are servers too
  --at dc-north --tcp      options alone are kept for the lines that follow; a line -- forgets them
Tab completes; the arrow up and Ctrl-R find earlier lines; quit or Ctrl-D ends.
Every option: salt-mirror ask --help"""

_TAKES_SERVERS = ("--at",)
_LONGEST_PROMPT = 40


def state_folder() -> Path:
    """Return the folder in which this user's programs keep what they remember."""
    if sys.platform == "win32":
        base = Path(os.environ.get("LOCALAPPDATA") or Path.home() / "AppData" / "Local")
    elif sys.platform == "darwin":
        base = Path.home() / "Library" / "Application Support"
    else:
        base = Path(os.environ.get("XDG_STATE_HOME") or Path.home() / ".local" / "state")
    return base / "salt-mirror"


def _history() -> History:
    """Return the lines of earlier prompts; only those of this one where they cannot be kept."""
    path = state_folder() / "ask-history"
    try:
        path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        path.touch(mode=0o600)
    except OSError:
        return InMemoryHistory()
    return FileHistory(str(path))


class LineCompleter(Completer):
    """Completes names, types, servers and options, as the estate has them and as they were typed before."""

    def __init__(self, estate: Estate, options: Sequence[str]) -> None:
        self._options = sorted(options)
        self._servers = ["authoritative", "everywhere", *estate.servers, *estate.resolvers, *estate.groups]
        names = {one.name for zone in estate.all_zones() for one in zone.expectations}
        self._names = dict.fromkeys(sorted(to_text(name).rstrip(".") for name in names))

    def learn(self, words: Iterable[str]) -> None:
        """Offer names that were typed."""
        self._names.update(dict.fromkeys(words))

    def get_completions(self, document: Document, complete_event: CompleteEvent) -> Iterator[Completion]:
        """Return what may come where the cursor is."""
        before = document.text_before_cursor.split(" ")
        word, last = before[-1], before[-2] if len(before) > 1 else ""
        for offered in self._offered(word, last, first=not any(part for part in before[:-1])):
            if offered.lower().startswith(word.lower()) and OFFERED.fullmatch(offered.lstrip("-")):
                yield Completion(offered, start_position=-len(word))

    def _offered(self, word: str, last: str, *, first: bool) -> Iterable[str]:
        if last in _TAKES_SERVERS:
            return self._servers
        if word.startswith("-"):
            return self._options
        return self._names if first else [*TYPE_NAMES.values(), *self._names]


class AskPrompt:
    """The prompt at work: `estate` offers names and servers; `begin` are options of the command line, kept from the first line
    on; `options` what may be typed."""

    def __init__(self, command: Any, estate: Estate, begin: Sequence[str]) -> None:
        self._command = command
        self._defaults = list(begin)
        options = [name for one in command.params for name in one.opts if name.startswith("--")]
        self._completer = LineCompleter(estate, options)
        self._session: PromptSession[str] = PromptSession(
            history=_history(), completer=self._completer, complete_while_typing=False, enable_history_search=True,
            auto_suggest=AutoSuggestFromHistory(),
        )  # fmt: skip

    @property
    def shown(self) -> str:
        """The prompt, with the options that are kept."""
        kept = shlex.join(self._defaults)
        kept = kept if len(kept) <= _LONGEST_PROMPT else f"{kept[:_LONGEST_PROMPT]}…"
        return f"ask {kept}> " if kept else "ask> "

    def run(self) -> None:
        """Answer line after line until the end."""
        while True:
            try:
                line = self._session.prompt(self.shown).strip()
            except KeyboardInterrupt:
                continue  # the line is given up, and not the prompt
            except EOFError:
                return
            if line in ("quit", "exit"):
                return
            if line == "?":
                show(f"{HELP}\n")
            elif line:
                self._answer(line)

    def _answer(self, line: str) -> None:
        try:
            words = shlex.split(line)
        except ValueError as error:
            tell(f"{error}: a quotation mark is open")
            return
        if words == ["--"]:
            self._defaults = []
            return
        try:
            context = self._command.make_context("ask", list(words), resilient_parsing=True)
            names = list(context.params.get("words") or [])
            if not names and not context.params.get("source"):
                # Parsed once more without resilience, so that a wrong option is told now and not with the next name.
                self._command.make_context("ask", [*words, "."])
                self._defaults = words
                return
            self._completer.learn(name for name in names if name.upper() not in TYPE_NAMES.values())
            self._command.main([*self._defaults, *words], prog_name="salt-mirror ask", standalone_mode=False)
        except (Unusable, typer.Exit) as error:
            if isinstance(error, Unusable):
                tell(error)
        except KeyboardInterrupt:
            tell("interrupted")
        except Exception as error:
            message = getattr(error, "format_message", None)  # a usage error of the parser
            if message is None:
                raise
            tell(message())
