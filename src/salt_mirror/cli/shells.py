"""The scripts by which shells complete the program's words, and the places where they are installed.

Strategy: every shell gets the same list, a line a word with its help behind a tab, and puts words on the line by its own means.
No shell evaluates what it got: words come from estates, and so from whoever named a zone. The program offers plain words only
(`completing.OFFERED`); each script checks that once more, so that no part has to trust another.
"""

from __future__ import annotations

import os
import shlex
import subprocess
from pathlib import Path

from salt_mirror.estate.errors import BadInput
from salt_mirror.keeping.writing import write_whole

_BASH = r"""
_salt_mirror_completion() {
    local typed="${COMP_LINE:0:COMP_POINT}" word help before=""
    typed="salt-mirror ${typed##*salt-mirror }"  # other commands may stand before this one on the line
    COMPREPLY=()
    # Readline breaks words at colons; what stands before the last one is on the line already.
    local current="${typed##*[[:space:]]}"
    if [[ $current == *:* && $COMP_WORDBREAKS == *:* ]]; then before="${current%"${current##*:}"}"; fi
    while IFS=$'\t' read -r word help; do
        if [[ -n $word && $word != *[!A-Za-z0-9._:/@-]* ]]; then COMPREPLY+=("${word#"$before"}"); fi
    done < <(_SALT_MIRROR_COMPLETE=complete_fish _TYPER_COMPLETE_FISH_ACTION=get-args \
        _TYPER_COMPLETE_ARGS="$typed" salt-mirror 2>/dev/null)
}
complete -o default -F _salt_mirror_completion salt-mirror
"""

_ZSH = r"""
#compdef salt-mirror
_salt_mirror_completion() {
  local word help
  local -a found shown
  while IFS=$'\t' read -r word help; do
    if [[ -n $word && $word != *[^A-Za-z0-9._:/@-]* ]]; then found+=("$word"); shown+=("$word  $help"); fi
  done < <(_SALT_MIRROR_COMPLETE=complete_fish _TYPER_COMPLETE_FISH_ACTION=get-args \
    _TYPER_COMPLETE_ARGS="${(j: :)words[1,CURRENT]}" salt-mirror 2>/dev/null)
  if (( $#found )); then compadd -l -d shown -a found; else _files; fi
}
# Loaded at the first press of Tab it completes at once; sourced, it says what it is for.
if [[ $funcstack[1] == _salt-mirror ]]; then _salt_mirror_completion; else compdef _salt_mirror_completion salt-mirror; fi
"""

_FISH = r"""
function __salt_mirror_completion
    set --local typed (commandline --cut-at-cursor --current-process | string collect)
    env _SALT_MIRROR_COMPLETE=complete_fish _TYPER_COMPLETE_FISH_ACTION=get-args \
        _TYPER_COMPLETE_ARGS="$typed" salt-mirror 2>/dev/null | string match --regex '^[A-Za-z0-9._:/@-]+(?:\t.*)?$'
end
complete --command salt-mirror --condition 'count (__salt_mirror_completion) >/dev/null' \
    --no-files --arguments '(__salt_mirror_completion)'
"""

_POWERSHELL = r"""
Register-ArgumentCompleter -Native -CommandName salt-mirror -ScriptBlock {
    param($wordToComplete, $commandAst, $cursorPosition)
    $typed = $commandAst.ToString()
    if (-not $wordToComplete) { $typed += ' ' }
    try {
        $Env:_SALT_MIRROR_COMPLETE = 'complete_fish'
        $Env:_TYPER_COMPLETE_FISH_ACTION = 'get-args'
        $Env:_TYPER_COMPLETE_ARGS = $typed
        salt-mirror 2>$null | ForEach-Object {
            $word, $help = $_ -split "`t", 2
            if ($word -cmatch '\A[A-Za-z0-9._:/@-]+\z') {
                if (-not $help) { $help = $word }
                [System.Management.Automation.CompletionResult]::new($word, $word, 'ParameterValue', $help)
            }
        }
    } finally {
        $Env:_SALT_MIRROR_COMPLETE = $null
        $Env:_TYPER_COMPLETE_FISH_ACTION = $null
        $Env:_TYPER_COMPLETE_ARGS = $null
    }
}
"""

SCRIPTS = {"bash": _BASH, "zsh": _ZSH, "fish": _FISH, "powershell": _POWERSHELL, "pwsh": _POWERSHELL}
"""What each shell reads to complete."""


def script(shell: str) -> str:
    """Return what a shell reads to complete."""
    return SCRIPTS[shell].strip() + "\n"


def install(shell: str) -> Path:
    """Write a shell's script where the shell finds it, and what makes it look there. Return its path.

    Raises BadInput and OSError.
    """
    home = Path.home()
    if shell == "bash":
        path = home / ".bash_completions" / "salt-mirror.sh"
        _write(path, script(shell))
        _add(home / ".bashrc", f"source {shlex.quote(str(path))}")
    elif shell == "zsh":
        path = home / ".zfunc" / "_salt-mirror"
        _write(path, script(shell))
        _add(home / ".zshrc", "fpath+=~/.zfunc; autoload -Uz compinit; compinit")
    elif shell == "fish":
        path = home / ".config" / "fish" / "completions" / "salt-mirror.fish"
        _write(path, script(shell))
    else:
        profile = _profile(shell)
        path = profile.with_name("salt-mirror.completion.ps1")
        _write(path, script(shell))
        quoted = str(path).replace("'", "''")
        _add(profile, f". '{quoted}'")
    return path


def _profile(shell: str) -> Path:
    """Return the file that a PowerShell reads when it begins."""
    try:
        done = subprocess.run(
            [shell, "-NoProfile", "-Command", "$PROFILE"], capture_output=True, text=True, check=True, timeout=60
        )
    except subprocess.SubprocessError as error:
        raise BadInput(f"{shell} does not say where its profile is: {error}") from None
    return Path(done.stdout.strip())


def _write(path: Path, text: str) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    write_whole(path, text)


def _add(path: Path, line: str) -> None:
    """Add a line to a file of the user's, unless it is there."""
    text = path.read_text(encoding="utf-8") if path.exists() else ""
    if line not in text.splitlines():
        _write(path, text + ("" if not text or text.endswith("\n") else os.linesep) + line + "\n")
