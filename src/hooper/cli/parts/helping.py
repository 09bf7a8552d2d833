"""Help pages and guesses: what Typer's commands look like here."""

from __future__ import annotations

from typing import Any

from typer.core import TyperCommand, TyperGroup

from hooper.chosen import nearest
from hooper.errors import UsageError


def _write_parameters(command: Any, ctx: Any, formatter: Any) -> None:
    """Arguments and options, each by the name that it has in the usage line and nothing of how it is stored."""
    rows: dict[str, list[tuple[str, str]]] = {"Arguments": [], "Options": []}
    for parameter in command.get_params(ctx):
        record = parameter.get_help_record(ctx)
        if record is None:
            continue
        name, text = record
        if parameter.param_type_name == "argument":
            name = parameter.metavar or parameter.name.upper()
            rows["Arguments"].append((name + ("..." if parameter.nargs != 1 else ""), text.replace("  [required]", "")))
        else:
            rows["Options"].append((name, text))
    for title, found in rows.items():
        if found:
            with formatter.section(title):
                formatter.write_dl(found, col_max=28)


def _parse_lightly(command: Any, ctx: Any, args: list[str]) -> list[str]:
    """Read the command line as far as a shell's question needs it: values stay text, so that nothing is loaded."""
    from typer._click.core import ParameterSource

    parser = command.make_parser(ctx)
    values, rest, _ = parser.parse_args(args=args)
    for parameter in command.get_params(ctx):
        if values.get(parameter.name):
            ctx.params[parameter.name] = values[parameter.name]
            ctx.set_parameter_source(parameter.name, ParameterSource.COMMANDLINE)
    ctx.args = list(rest)
    ctx._opt_prefixes.update(parser._opt_prefixes)
    return list(rest)


class HelpedCommand(TyperCommand):
    """A command whose help ends with examples. examples: each what follows "hooper"."""

    examples: tuple[str, ...] = ()

    def parse_args(self, ctx: Any, args: list[str]) -> list[str]:
        rest: list[str] = (_parse_lightly if ctx.resilient_parsing else TyperCommand.parse_args)(self, ctx, args)
        return rest

    def collect_usage_pieces(self, ctx: Any) -> list[str]:
        return [piece.strip("{}") for piece in super().collect_usage_pieces(ctx)]

    def format_options(self, ctx: Any, formatter: Any) -> None:
        _write_parameters(self, ctx, formatter)
        if self.examples:
            with formatter.section("Examples"):
                for example in self.examples:
                    formatter.write(f"{' ' * formatter.current_indent}hooper {example}\n")


def helped(*examples: str) -> type[HelpedCommand]:
    """The class of a command with these examples."""
    return type("HelpedCommand", (HelpedCommand,), {"examples": examples})


VERBS = ("list", "show", "add", "change", "rename", "remove")  # that most groups have, before those of their own


class GuessingGroup(TyperGroup):
    """Commands of which a mistyped one is guessed, each with its whole first sentence in the overview."""

    def list_commands(self, ctx: Any) -> list[str]:
        known = super().list_commands(ctx)
        return [verb for verb in VERBS if verb in known] + [name for name in known if name not in VERBS]

    def parse_args(self, ctx: Any, args: list[str]) -> list[str]:
        if ctx.resilient_parsing:
            rest = _parse_lightly(self, ctx, args)
            ctx._protected_args, ctx.args = rest[:1], rest[1:]
            return rest[1:]
        left: list[str] = super().parse_args(ctx, args)
        return left

    def resolve_command(self, ctx: Any, args: list[str]) -> Any:
        known = self.list_commands(ctx)
        if args and not ctx.resilient_parsing and not args[0].startswith("-") and args[0] not in known:
            near = nearest(args[0], known)
            hint = f"Did you mean `{ctx.command_path} {near[0]}`? " if near else ""
            message = f"there is no command `{ctx.command_path} {args[0]}`"
            raise UsageError(message, remedy=f"{hint}There are: {', '.join(known)}.")
        return super().resolve_command(ctx, args)

    def shell_complete(self, ctx: Any, incomplete: str) -> list[Any]:
        """The commands' names alone: their texts would cost loading each of them."""
        from typer._click.shell_completion import CompletionItem

        return [CompletionItem(name) for name in self.list_commands(ctx) if name.startswith(incomplete)]

    def format_options(self, ctx: Any, formatter: Any) -> None:
        _write_parameters(self, ctx, formatter)
        self.format_commands(ctx, formatter)

    def format_commands(self, ctx: Any, formatter: Any) -> None:
        with formatter.section("Commands"):
            formatter.write_dl([(name, self._summary(ctx, name)) for name in self.list_commands(ctx)])

    def _summary(self, ctx: Any, name: str) -> str:
        command = self.get_command(ctx, name)
        text = " ".join((command.help or "").split("\n\n")[0].split()) if command is not None else ""
        return text.partition(". ")[0].rstrip(".") + "."
