"""``concordex config``: configuration objects, by name."""

import typer

from concordex.cli.commands.config import look, staged, write

config = typer.Typer(
    help="Configuration objects (roles, policies, rules, …): save them as files, compare, load back, copy, migrate.",
    no_args_is_help=True,
    rich_markup_mode=None,
)
config.command("list")(look.list_objects)
for command in (
    look.show, look.save, look.diff, write.push, write.copy, write.migrate, write.install, write.remove,
    staged.pending, staged.commit, staged.unstage,
):  # fmt: skip
    config.command(command.__name__)(command)
