"""Completion in the shells that people have: typed into each, on a terminal, and what comes of it."""

from __future__ import annotations

import os
import pty
import select
import shutil
import signal
import sys
import time
from pathlib import Path

import pytest

SHELLS = {
    "bash": (["bash", "--norc", "-i"], 'eval "$(concordex --show-completion)"'),
    "zsh": (["zsh", "-f", "-i"], 'autoload -U compinit; compinit -u -D; eval "$(concordex --show-completion)"'),
    "fish": (["fish", "--no-config", "-i"], "concordex --show-completion | source"),
}
READY = b"all-is-set"


class Terminal:
    """A shell on a terminal of its own."""

    def __init__(self, words: list[str], folder: Path, home: Path) -> None:
        self.child, self.screen = pty.fork()
        if self.child == 0:
            os.chdir(folder)
            beside = str(Path(sys.executable).parent)
            os.environ.update(PS1="$ ", TERM="xterm", HOME=str(home), PATH=f"{beside}:{os.environ['PATH']}")
            os.execvp(words[0], words)

    def typed(self, text: str, seen: bytes) -> bytes:
        """Type something and wait until ``seen`` stands on the screen; what stood there since."""
        os.write(self.screen, text.encode())
        shown, ends = b"", time.monotonic() + 60
        while seen not in shown:
            assert time.monotonic() < ends, shown
            if select.select([self.screen], [], [], 0.1)[0]:
                shown += os.read(self.screen, 65_536)
        return shown

    def close(self) -> None:
        os.kill(self.child, signal.SIGKILL)
        os.waitpid(self.child, 0)
        os.close(self.screen)


@pytest.mark.parametrize("name", list(SHELLS))
def test_commands_and_names_of_systems_are_completed(shell, tmp_path, name):
    words, setup = SHELLS[name]
    if shutil.which(words[0]) is None:
        pytest.skip(f"{name} is not installed here")
    terminal = Terminal(words, shell.folder, tmp_path)
    try:
        terminal.typed(f"{setup}\necho {READY[:4].decode()}''{READY[4:].decode()}\n", READY)
        terminal.typed("concordex system pau\t", b"pause")
        terminal.typed("sto\t", b"stowage")
    finally:
        terminal.close()
