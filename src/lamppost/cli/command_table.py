"""The commands: for each its module in this folder and its summary.

A module is imported when its command runs, is completed or asked for help, so ``lamppost --help`` imports none of them. The
arguments and options of a command stand at its function, which is named as the command is (``review approve`` is
``review_approve``).
"""

from __future__ import annotations

from dataclasses import dataclass
from importlib import import_module
from typing import Annotated, Any

import typer
from typer.core import TyperCommand, TyperGroup

import lamppost


@dataclass(frozen=True, slots=True)
class CommandEntry:
    """Where a command is implemented, and its line in the help of its group."""

    module: str
    summary: str


GROUPS = {
    "token": "Make, list and revoke tokens.",
    "key": "Make and list the keys that sign packages.",
    "review": "Ask for reviews of versions, approve or refuse them.",
    "delete": "Delete endpoints, versions and models.",
    "bulk": "Score files and tables as a whole; follow, stop, resume and repeat such runs.",
    "desk": "Pages for people who only ask: open one by a link, say what it shows, see who uses it.",
    "schedule": "Have bulk runs started by themselves: add, list, pause, run and remove schedules.",
    "sweep": "Measure settings of lanes, and pick the best one within limits. A version alone begins one: lamppost sweep VERSION.",
    "outpost": "Nodes far away without a database: add them, start one, say what each serves, see how they do.",
    "channel": "Add, list and remove channels, where alerts and reports go.",
}
COMMANDS = {
    "up": CommandEntry("node.up", "Start the service, with a private PostgreSQL unless --database names another."),
    "serve": CommandEntry("node.serve_files", "Put lamp files behind addresses, with no database and no registration."),
    "outpost new": CommandEntry("outposts.manage", "Add an outpost, with a token of its own."),
    "outpost join": CommandEntry("node.join_hub", "Start an outpost: a node without a database that serves what its hub says."),
    "outpost list": CommandEntry("outposts.manage", "List outposts: what each serves, when it was heard of, what is to come."),
    "outpost show": CommandEntry("outposts.manage", "Show one outpost."),
    "outpost drift": CommandEntry("outposts.manage", "Say whether the rows that one outpost answered look like training."),
    "outpost label": CommandEntry("outposts.manage", "Give an outpost other labels."),
    "outpost clear": CommandEntry("outposts.manage", "Have outposts serve nothing for an endpoint any more."),
    "outpost bar": CommandEntry("outposts.manage", "End the token of an outpost that is lost or given up."),
    "pack": CommandEntry("lamp_files.packing", "Make a lamp file and prove it."),
    "inspect": CommandEntry("lamp_files.packages", "Show what is in a lamp file."),
    "export": CommandEntry("lamp_files.export", "Write a package as SQL, ONNX, Python or C, held against its own answers."),
    "diff": CommandEntry(
        "lamp_files.packages", "Show what changed between two lamp files or versions; exit code 1 if it would break callers."
    ),
    "sign": CommandEntry("lamp_files.keys", "Sign a lamp file; its digest does not change."),
    "prove": CommandEntry(
        "lamp_files.packages", "Replay a lamp file's proof in a fresh process; exit code 1 if any answer differs from training."
    ),
    "split-package": CommandEntry("lamp_files.splitting", "Split a lamp file in two between its steps, and prove both."),
    "push": CommandEntry("manage", "Store a lamp file as the next version of its model."),
    "fetch": CommandEntry("manage", "Write the lamp file of a stored version to disk."),
    "shell": CommandEntry(
        "lamp_files.shell", "Open Python with the objects of a version or a lamp file, the rows of its proof, and its provenance."
    ),
    "point": CommandEntry("manage", "Make an endpoint serve a version, after the version has proved itself."),
    "setup": CommandEntry(
        "setup", "Show or change what an endpoint serves, and how: several versions, look-ups, lenient reading, lane rules."
    ),
    "lanes": CommandEntry("lanes", "Show the open lanes of the node: copies, queues, batches, memory."),
    "endpoints": CommandEntry("manage", "List endpoints: their state, what they serve, their last hour."),
    "models": CommandEntry("manage", "List models and their versions."),
    "show": CommandEntry("manage", "Show an endpoint or a version: fields, state, history."),
    "card": CommandEntry("pages", "Write a page about a version for people who decide on it."),
    "ask": CommandEntry("ask", "Ask an endpoint; without a row, the example of its schema is sent."),
    "door": CommandEntry("doors.door", "Forward requests from this machine to the service, with your token, until Ctrl-C."),
    "explain": CommandEntry("explain", "Explain an answer: what each field contributed, what would change it, and a rule for it."),
    "bulk start": CommandEntry("bulk.runs", "Score a file or table as a whole, and wait for it; or only check it."),
    "bulk list": CommandEntry("bulk.runs", "List bulk runs, the newest first."),
    "bulk show": CommandEntry("bulk.runs", "Show one run: how far it is, its answers, its rejects, and how its rows differ from before."),
    "bulk follow": CommandEntry("bulk.runs", "Follow a run until it ends."),
    "bulk stop": CommandEntry("bulk.runs", "Stop a run; it can be resumed."),
    "bulk resume": CommandEntry("bulk.runs", "Go on with a run that was stopped or failed, where it was."),
    "bulk repeat": CommandEntry("bulk.runs", "Start the same again, by what its endpoints serve now."),
    "bulk fetch": CommandEntry("bulk.runs", "Fetch the output of a run, or its rejects, from the service."),
    "bulk report": CommandEntry("bulk.runs", "Write the report about a finished run to a file, .html or .pdf."),
    "bulk forget": CommandEntry("bulk.runs", "Delete a run that has ended, with what the service keeps of its output."),
    "desk open": CommandEntry("bulk.desks", "Make a link that opens the desk of an endpoint, and nothing else."),
    "desk set": CommandEntry("bulk.desks", "Say what a desk shows: its title, its fields in plain words, what its answers are called."),
    "desk show": CommandEntry("bulk.desks", "Show a desk: what it shows, its links, and how often each was used."),
    "desk list": CommandEntry("bulk.desks", "List the desks."),
    "desk revoke": CommandEntry("bulk.desks", "End a link to a desk at once."),
    "desk close": CommandEntry("bulk.desks", "Close a desk and end all of its links."),
    "schedule add": CommandEntry("bulk.schedules", "Have a bulk run started at times; the next five are shown first."),
    "schedule list": CommandEntry("bulk.schedules", "List schedules: when each is due, and how its last run went."),
    "schedule show": CommandEntry("bulk.schedules", "Show one schedule, its next times, and what was done at the last ones."),
    "schedule pause": CommandEntry("bulk.schedules", "Start nothing until the schedule goes on."),
    "schedule resume": CommandEntry("bulk.schedules", "Let a schedule go on, from now."),
    "schedule run": CommandEntry("bulk.schedules", "Start a run of a schedule now."),
    "schedule remove": CommandEntry("bulk.schedules", "Remove a schedule; its runs stay."),
    "tail": CommandEntry("calls", "Show the last calls."),
    "logs": CommandEntry("logs", "Show what the service, its workers and their code have said, on all nodes."),
    "records": CommandEntry("records", "Show how records fare on their way to the database, and try those again that were set aside."),
    "call": CommandEntry("calls", "Show one call: input, answer, version, and where the time went."),
    "console": CommandEntry("manage", "Print a link that signs one browser in to the console, once."),
    "token new": CommandEntry("tokens", "Make a token; its secret is shown once."),
    "token list": CommandEntry("tokens", "List tokens."),
    "token rotate": CommandEntry("tokens", "Give a token a new secret; the former one stays in force for an hour."),
    "token revoke": CommandEntry("tokens", "End a token at once."),
    "key new": CommandEntry("lamp_files.keys", "Make an Ed25519 key pair; the private half stays in your own folder."),
    "key list": CommandEntry("lamp_files.keys", "List your keys."),
    "backup": CommandEntry("backup", "Write a backup of a running service to a file: packages, endpoints, tokens, records."),
    "restore": CommandEntry("backup", "Put a backup into the data folder of a service that does not run, or into another database."),
    "rollback": CommandEntry("changes", "Go back to what the endpoint served before, at once; twice in a row goes back twice."),
    "split": CommandEntry("changes", "Give several versions shares of the calls."),
    "shadow": CommandEntry("changes", "Copy calls to a version whose answers are recorded and compared, and never given to callers."),
    "rollout": CommandEntry(
        "rollout", "Move an endpoint to a version step by step, and back if a guard says so. Shows, pauses, resumes or ends a rollout too."
    ),
    "compare": CommandEntry("changes", "Show how far the answers of two versions agree: on the proof, on the last calls, or on a file."),
    "retire": CommandEntry("changes", "Keep a version from being served; the version stays stored."),
    "delete endpoint": CommandEntry("deletion", "Delete an endpoint; it can be given back for a day, and its records stay."),
    "delete version": CommandEntry("deletion", "Delete a version that nothing refers to, and free its space; its records stay."),
    "delete model": CommandEntry("deletion", "Delete all versions of a model, if nothing refers to them."),
    "about": CommandEntry("changes", "Show or set the owner and the purpose of a model."),
    "trail": CommandEntry("changes", "Show who changed what, and when."),
    "declare": CommandEntry("declare", "Write what all endpoints serve as one TOML document; with FILE, show or carry out the difference."),
    "review list": CommandEntry("reviews", "List reviews."),
    "review ask": CommandEntry("reviews", "Ask others to approve a version for an endpoint."),
    "review approve": CommandEntry("reviews", "Approve a version."),
    "review refuse": CommandEntry("reviews", "Refuse a version."),
    "review withdraw": CommandEntry("reviews", "Withdraw a review."),
    "review demand": CommandEntry("reviews", "Demand approvals before a version serves an endpoint."),
    "drift": CommandEntry("watching", "Show whether rows and answers still look like training, and why not."),
    "traffic": CommandEntry("watching", "Show calls, errors and percentiles by phase over time."),
    "watch": CommandEntry("watching", "Watch endpoints live: state, calls, latency, quality, drift, alerts."),
    "load": CommandEntry("measuring.loads", "Put load on endpoints by real calls, and measure what they answer."),
    "loads": CommandEntry("measuring.loads", "List loads, show one, or compare two."),
    "sweep start": CommandEntry(
        "measuring.sweeps", "Measure rows of a batch, linger, copies, threads and forms of versions, with real rows."
    ),
    "sweep list": CommandEntry("measuring.sweeps", "List sweeps, the newest first."),
    "sweep show": CommandEntry("measuring.sweeps", "Show what a sweep measured, and its pick."),
    "sweep pick": CommandEntry(
        "measuring.sweeps", "Pick again from what was measured, with any limits; exit code 1 if nothing meets them."
    ),
    "sweep stop": CommandEntry("measuring.sweeps", "Stop a sweep; what was measured is kept."),
    "sweep resume": CommandEntry("measuring.sweeps", "Go on with a sweep from what it has measured."),
    "sweep report": CommandEntry("measuring.sweeps", "Write a report about a sweep to a file, .html or .pdf."),
    "sweep forget": CommandEntry("measuring.sweeps", "Delete a sweep with all that it measured."),
    "outcome": CommandEntry("outcomes", "Report the truth about an earlier answer."),
    "outcomes": CommandEntry("outcomes", "Show the quality of answers, as far as the truth is known."),
    "alerts": CommandEntry("alerts", "Show open alerts: what, since when, how sure, and the probable cause."),
    "mute": CommandEntry("alerts", "Send no notices about an endpoint for a while."),
    "report": CommandEntry("pages", "Write a report about an endpoint."),
    "channel add": CommandEntry("alerts", "Add a channel for alerts and reports."),
    "channel list": CommandEntry("alerts", "List channels, and the latest notices with how they fared."),
    "channel remove": CommandEntry("alerts", "Remove a channel."),
}


def _print_version(wanted: bool) -> None:
    if wanted:
        typer.echo(f"lamppost {lamppost.__version__}")
        raise typer.Exit


_HELP: dict[str, Any] = {"help_option_names": ["-h", "--help"]}


def load_command(name: str) -> Any:
    """The command ``name`` with its arguments and options; imports its module."""
    entry = COMMANDS[name]
    function = getattr(import_module(f"lamppost.cli.{entry.module}"), name.replace(" ", "_").replace("-", "_"))
    alone = typer.Typer(add_completion=False, rich_markup_mode=None, pretty_exceptions_enable=False)
    settings = _HELP | ({"auto_envvar_prefix": "LAMPPOST"} if name == "up" else {})
    alone.command(name.split(" ")[-1], help=entry.summary, context_settings=settings)(function)
    return typer.main.get_command(alone)


class _WholeSummary:
    """Stands in the list of commands with its whole summary, which the list wraps."""

    help: str | None

    def get_short_help_str(self, limit: int = 45) -> str:  # noqa: ARG002 - the interface's
        """The summary, of any length."""
        return self.help or ""


class _CommandGroup(_WholeSummary, TyperGroup):
    """Commands under one word; a version in place of a command means ``start``, where there is such a command."""

    def resolve_command(self, ctx: Any, args: list[str]) -> Any:
        """The command that the arguments name, and what is left of them."""
        if args and "@" in args[0] and args[0] not in self.commands and "start" in self.commands:
            args = ["start", *args]
        return super().resolve_command(ctx, args)


class _ListedCommand(_WholeSummary, TyperCommand):
    """A command whose name and summary are known; parsing its arguments loads the whole command."""

    def __init__(self, name: str, entry: CommandEntry) -> None:
        super().__init__(name.split(" ")[-1], help=entry.summary)
        self._entry_name = name

    def make_context(self, *args: Any, **extra: Any) -> Any:
        """The context of the loaded command."""
        return load_command(self._entry_name).make_context(*args, **extra)


def _root(
    version: Annotated[
        bool, typer.Option("--version", help="Print the version of Lamp Post.", is_eager=True, callback=_print_version)
    ] = False,
) -> None:
    """The options of ``lamppost`` itself."""


def make_command_line() -> TyperGroup:
    """The whole command line, with an option that installs completion."""
    app = typer.Typer(
        name="lamppost",
        no_args_is_help=True,
        pretty_exceptions_enable=False,
        rich_markup_mode=None,
        context_settings=_HELP,
        help="Put a trained model into service: pack it, prove it, push it, point an endpoint at it, ask it.",
    )
    app.callback()(_root)
    root = typer.main.get_group(app)
    root.params.extend(typer.main.get_install_completion_arguments())
    groups = {
        name: _CommandGroup(name=name, help=summary, no_args_is_help=True, rich_markup_mode=None, context_settings=_HELP)
        for name, summary in GROUPS.items()
    }
    for name, entry in COMMANDS.items():
        group_name, _, last = name.rpartition(" ")
        (groups[group_name] if group_name else root).add_command(_ListedCommand(name, entry), last)
    for group in groups.values():
        root.add_command(group)
    return root
