"""The commands and their options. Each body imports what it needs, so that help and mistakes cost nothing."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Any

import typer

from yardbolt.core.errors import OperatorError

from .options import (
    DEFAULT_JOB,
    All,
    As,
    Format,
    JobFile,
    Jobs,
    Keep,
    KeyFile,
    NoColor,
    Output,
    Ports,
    Quiet,
    SshKey,
    ThisOne,
    Units,
    Why,
    Yes,
)
from .values import Depth, Wish, found_of, leaps_of, schema_of, span_of

app = typer.Typer(
    name="yardbolt",
    rich_markup_mode=None,
    pretty_exceptions_enable=False,
    add_completion=False,
    help="Check, tighten and prove the management plane of freshly commissioned appliances. Without a command: the "
    "job board.",
    epilog="Exit codes: 0 done and clean, 1 the tool failed, 2 usage or file error, 3 findings remain, "
    "4 some units could not be judged, 5 stopped part-way safely, 130 interrupted.",
)
bench_app = typer.Typer(
    rich_markup_mode=None, help="Simulated units on 127.x.y.z, for learning and trying out.", no_args_is_help=True
)
records_app = typer.Typer(
    rich_markup_mode=None, help="What is on record: checks, journals, host keys.", invoke_without_command=True
)
family_app = typer.Typer(rich_markup_mode=None, help="Family files: how to talk to one make.", no_args_is_help=True)
baseline_app = typer.Typer(rich_markup_mode=None, help="Baselines: what a unit must meet.", no_args_is_help=True)
safe_app = typer.Typer(rich_markup_mode=None, help="The safe of the job: its passwords and keys.", no_args_is_help=True)
job_app = typer.Typer(rich_markup_mode=None, help="The job file.", no_args_is_help=True)
for name, sub in (
    ("job", job_app),
    ("safe", safe_app),
    ("records", records_app),
    ("family", family_app),
    ("baseline", baseline_app),
    ("bench", bench_app),
):
    app.add_typer(sub, name=name)

Leap = Annotated[
    list[str] | None,
    typer.Option("--leap", metavar="PATH", help="Consent to a one-shot change: it replaces the only way in at once."),
]
Again = Annotated[bool, typer.Option("--again", help="Also plan what the unit refused before.")]
Found = Annotated[
    str, typer.Option("--found", metavar="keep", help="Keep settings that were live but not saved when you came.")
]
Network = Annotated[
    str,
    typer.Option("--network", metavar="127.X.Y", help="Where the bench is: the first three numbers of its addresses."),
]
DEMO_NETWORK = "127.83.4"


def passed_on(context: typer.Context) -> None:
    """A job file that is said before a command is the command's. Raises OperatorError where the command works on no
    job."""
    source = context.get_parameter_source("job")
    if source is None or source.name != "COMMANDLINE":
        return
    job = str(context.params["job"])

    def told(command: Any) -> dict[str, Any]:
        own = {"job": job} if any(one.name == "job" for one in command.params) else {}
        return {**own, **{name: told(below) for name, below in getattr(command, "commands", {}).items()}}

    context.default_map = told(context.command)
    if not context.default_map.get(context.invoked_subcommand or ""):
        raise OperatorError(f"{context.invoked_subcommand} works on no job; leave --job out")


@app.callback(invoke_without_command=True)
def bare(
    context: typer.Context, job: JobFile = DEFAULT_JOB, no_color: NoColor = False,
    version: Annotated[bool, typer.Option("--version", help="Show the version.")] = False,
) -> None:  # fmt: skip
    if context.invoked_subcommand:
        return passed_on(context)
    from . import board

    raise typer.Exit(board.version() if version else board.board(job, no_color))


@app.command()
def demo(
    folder: Annotated[Path | None, typer.Option("--folder", metavar="DIR", help="Work here and keep it; else in a "
        "temporary folder.")] = None,
    host: Annotated[bool, typer.Option("--host", help="A real Linux host instead, made in namespaces on this laptop; "
        "needs root.")] = False,
    no_color: NoColor = False,
) -> None:  # fmt: skip
    """The whole job on simulated units, with comments; about a minute. With --host on a real Linux host."""
    from .demo import of_a_host, run

    raise typer.Exit(of_a_host(folder, no_color) if host else run(folder, no_color))


@app.command()
def new(
    folder: Annotated[Path | None, typer.Argument(metavar="FOLDER", show_default=False)] = None,
    units: Annotated[Path | None, typer.Option("--from", metavar="CSV", help="Units: name,family,at,segment,class,serial,hardware,note.")] = None,
    add: Annotated[Path | None, typer.Option("--add", metavar="CSV", help="Add these units to the job that is "
        "there.")] = None,
    job: JobFile = DEFAULT_JOB,
    demo_yard: Annotated[bool, typer.Option("--demo", help="The job of the demo, to be worked by hand on the "
        "bench.")] = False,
    network: Network = DEMO_NETWORK,
    key_file: KeyFile = None,
    schema: Annotated[bool, typer.Option("--schema", help="Print the JSON Schema of the job file and end.")] = False,
) -> None:  # fmt: skip
    """Begin a job: a folder with yard.yaml and an empty safe."""
    if schema:
        from . import records as records_body

        raise typer.Exit(records_body.schema("job"))
    from . import new as body

    if add:
        raise typer.Exit(body.add(add, job))
    raise typer.Exit(body.new(folder, units, demo_yard, network, key_file))


@app.command()
def check(
    units: Units = None, job: JobFile = DEFAULT_JOB,
    at: Annotated[str | None, typer.Option("--at", metavar="ADDRESS", help="Look at any host from outside: no job, "
        "no family. A name, an address, or one of each family: 192.0.2.1,2001:db8::1.")] = None,
    source: Annotated[str, typer.Option("--source", metavar="ADDRESS", help="With --at: the laptop's address to use, "
        "or one of each family.")] = "",
    login: Annotated[list[str] | None, typer.Option("--try", metavar="NAME", help="With --at: try this account; its "
        "password is asked for.")] = None,
    readable: Annotated[bool, typer.Option("--readable", help="With --try: also by services where a password can be "
        "read on its way.")] = False,
    account: As = "", ssh_key: SshKey = None, keep: Keep = False,
    outside: Annotated[bool, typer.Option("--outside", help="Only from outside.")] = False,
    full: All = False, why: Why = False,
    key_file: KeyFile = None, ports: Ports = "", report_format: Format = "text", output: Output = None,
    jobs: Jobs = 8, quiet: Quiet = False,
    no_color: NoColor = False,
) -> None:  # fmt: skip
    """Look at units from outside and inside, and judge them. Changes nothing."""
    span = span_of(ports)
    if at is not None:
        if units or not at.strip():
            raise OperatorError("--at takes an address, and looks at that alone; name no unit of the job beside it")
        from . import check_at

        raise typer.Exit(
            check_at.check(at, source, login or [], readable, span, report_format, output, quiet, no_color)
        )
    from . import check as body

    raise typer.Exit(
        body.check(
            units,
            job,
            Wish(account, ssh_key, keep),
            outside,
            Depth(full, why),
            key_file,
            span,
            report_format,
            output,
            jobs,
            quiet,
            no_color,
        )
    )


@app.command()
def enter(
    units: Units = None, job: JobFile = DEFAULT_JOB, yes: Yes = False, account: As = "", ssh_key: SshKey = None,
    keep: Keep = False,
    this_one: ThisOne = False, key_file: KeyFile = None, ports: Ports = "", quiet: Quiet = False,
    no_color: NoColor = False,
) -> None:  # fmt: skip
    """First login: accept terms, set first passwords; you approve."""
    from . import enter as body

    raise typer.Exit(
        body.enter(units, job, yes, Wish(account, ssh_key, keep), this_one, key_file, span_of(ports), quiet, no_color)
    )


@app.command()
def steps(
    units: Units = None, job: JobFile = DEFAULT_JOB, leap: Leap = None, found: Found = "", again: Again = False,
    full: All = False, why: Why = False, report_format: Format = "text",
    output: Output = None, no_color: NoColor = False,
) -> None:  # fmt: skip
    """The plan: all changes, in order. Sends nothing."""
    from yardbolt.application.steps import Choices

    from . import steps as body

    choices = Choices(leaps_of(leap), found_of(found), again=again)
    raise typer.Exit(body.steps(units, job, choices, Depth(full, why), report_format, output, no_color))


@app.command()
def tighten(
    units: Units = None, job: JobFile = DEFAULT_JOB, yes: Yes = False, leap: Leap = None, found: Found = "",
    again: Again = False,
    replan: Annotated[bool, typer.Option("--replan", help="Plan again instead of finishing the run that was cut "
        "off.")] = False,
    account: As = "", ssh_key: SshKey = None, keep: Keep = False, this_one: ThisOne = False, full: All = False,
    why: Why = False,
    key_file: KeyFile = None, ports: Ports = "", jobs: Jobs = 4, quiet: Quiet = False, no_color: NoColor = False,
) -> None:  # fmt: skip
    """Carry out the plan, then prove it. Run it again after any interruption."""
    from yardbolt.application.steps import Choices

    from . import tighten as body

    choices = Choices(leaps_of(leap), found_of(found), again=again)
    login = Wish(account, ssh_key, keep)
    raise typer.Exit(
        body.tighten(
            units,
            job,
            yes,
            choices,
            replan,
            login,
            this_one,
            Depth(full, why),
            key_file,
            span_of(ports),
            jobs,
            quiet,
            no_color,
        )
    )


@app.command()
def access(
    unit: Annotated[str, typer.Argument(metavar="UNIT", show_default=False)], job: JobFile = DEFAULT_JOB,
    source: Annotated[str, typer.Option("--from", metavar="ADDRESS", help="Only for somebody at this address.")] = "",
    service: Annotated[str, typer.Option("--service", metavar="NAME", help="Only by this service.")] = "",
    account: Annotated[str, typer.Option("--as", metavar="NAME", help="With --from: only as this account.")] = "",
    full: All = False, report_format: Format = "text", output: Output = None, no_color: NoColor = False,
) -> None:  # fmt: skip
    """Who may log in from where, and why, by the last reading. Touches no unit."""
    from . import access as body

    raise typer.Exit(body.access(unit, job, source, service, account, full, report_format, output, no_color))


@app.command()
def leave(
    units: Units = None, job: JobFile = DEFAULT_JOB, yes: Yes = False, account: As = "", ssh_key: SshKey = None,
    keep: Keep = False,
    key_file: KeyFile = None, ports: Ports = "", quiet: Quiet = False, no_color: NoColor = False,
) -> None:  # fmt: skip
    """Last of all, remove this laptop's own access. Only administrators remain."""
    from . import leave as body

    raise typer.Exit(
        body.leave(units, job, yes, Wish(account, ssh_key, keep), key_file, span_of(ports), quiet, no_color)
    )


@app.command()
def prove(
    units: Units = None, job: JobFile = DEFAULT_JOB, account: As = "", ssh_key: SshKey = None, keep: Keep = False,
    full: All = False, why: Why = False,
    key_file: KeyFile = None, ports: Ports = "", report_format: Format = "text", output: Output = None,
    jobs: Jobs = 4, quiet: Quiet = False, no_color: NoColor = False,
) -> None:  # fmt: skip
    """Read units and try everything. Changes nothing."""
    from . import prove as body

    raise typer.Exit(
        body.prove(
            units,
            job,
            Wish(account, ssh_key, keep),
            Depth(full, why),
            key_file,
            span_of(ports),
            report_format,
            output,
            jobs,
            quiet,
            no_color,
        )
    )


@app.command()
def sheet(
    units: Units = None, job: JobFile = DEFAULT_JOB,
    report_format: Annotated[str, typer.Option("--format", metavar="FORM", help="all, text, json or html.")] = "all",
    output: Annotated[Path | None, typer.Option("--output", metavar="DIR", help="Folder for the sheets; `sheets` "
        "beside the job file.")] = None,
) -> None:  # fmt: skip
    """Write the sheet for the owner: text, JSON, and a page to print."""
    from . import sheet as body

    raise typer.Exit(body.sheet(units, job, report_format, output))


@job_app.command("check")
def job_check(file: Annotated[Path, typer.Argument(metavar="[FILE]")] = DEFAULT_JOB, no_color: NoColor = False) -> None:
    """Check the job file, with the families and the baseline it names."""
    from . import job as body

    raise typer.Exit(body.check(file, no_color))


@safe_app.command("list")
def safe_list(job: JobFile = DEFAULT_JOB, key_file: KeyFile = None, no_color: NoColor = False) -> None:
    """The entries, by unit and account; no values."""
    from . import safe as body

    raise typer.Exit(body.listed(job, key_file, no_color))


@safe_app.command("show")
def safe_show(unit: str, account: str, job: JobFile = DEFAULT_JOB, key_file: KeyFile = None) -> None:
    """Show one password on this screen, after a question; never into a pipe."""
    from . import safe as body

    raise typer.Exit(body.shown(unit, account, job, key_file))


@safe_app.command("check")
def safe_check(job: JobFile = DEFAULT_JOB, key_file: KeyFile = None, no_color: NoColor = False) -> None:
    """Open the safe and its copy, compare them, and say where they are."""
    from . import safe as body

    raise typer.Exit(body.check(job, key_file, no_color))


@safe_app.command("copy")
def safe_copy(job: JobFile = DEFAULT_JOB) -> None:
    """Make the second copy again if it is lost."""
    from . import safe as body

    raise typer.Exit(body.copy(job))


@app.command()
def receive(
    at: Annotated[str, typer.Option("--at", metavar="ADDRESS", help="The address of this laptop that units send "
        "to.")] = "0.0.0.0",  # noqa: S104
    port: Annotated[int, typer.Option("--port", metavar="N", min=1, max=65535)] = 514,
    seconds: Annotated[float, typer.Option("--for", metavar="SECONDS", help="End after so long; 0 = when "
        "interrupted.")] = 0.0,
    form: Annotated[str, typer.Option("--format", metavar="text|json")] = "text",
) -> None:  # fmt: skip
    """Listen for log messages that units send here, and print them."""
    from . import receive as body

    raise typer.Exit(body.receive(at, port, seconds, form))


@records_app.callback(invoke_without_command=True)
def records(context: typer.Context, job: JobFile = DEFAULT_JOB, no_color: NoColor = False) -> None:
    if context.invoked_subcommand:
        return passed_on(context)
    from . import records as body

    raise typer.Exit(body.records(job, no_color))


@records_app.command("show")
def records_show(number: int, job: JobFile = DEFAULT_JOB) -> None:
    """One document of the record, as JSON."""
    from . import records as body

    raise typer.Exit(body.show(number, job))


@records_app.command("journal")
def records_journal(unit: str, job: JobFile = DEFAULT_JOB, no_color: NoColor = False) -> None:
    """Everything that was done to a unit, in order, with all logins."""
    from . import records as body

    raise typer.Exit(body.journal(unit, job, no_color))


@records_app.command("files")
def records_files(unit: str, job: JobFile = DEFAULT_JOB, no_color: NoColor = False) -> None:
    """Our files on a host, and whether they are as we wrote them."""
    from . import records as body

    raise typer.Exit(body.files(unit, job, no_color))


@records_app.command("forget-key")
def records_forget(unit: str, job: JobFile = DEFAULT_JOB) -> None:
    """Forget the noted host keys of a unit, once you know why they changed."""
    from . import records as body

    raise typer.Exit(body.forget_key(unit, job))


@records_app.command("schema")
def records_schema(which: Annotated[str, typer.Argument(metavar="journal|record")] = "record") -> None:
    """The JSON Schema of an entry of the journal, or of a document of the record."""
    from . import records as body

    raise typer.Exit(body.schema(schema_of(which)))


@family_app.command("list")
def family_list(no_color: NoColor = False) -> None:
    """The families that come with the program."""
    from . import family as body

    raise typer.Exit(body.listed(no_color))


@family_app.command("check")
def family_check(file: Path, no_color: NoColor = False) -> None:
    """Check a family file, and list what it does not read."""
    from . import family as body

    raise typer.Exit(body.check(file, no_color))


@family_app.command("look")
def family_look(
    unit: Annotated[str, typer.Argument(metavar="UNIT")],
    place: Annotated[str, typer.Argument(metavar="PLACE", help="A page or an object, as in /desk/users.")],
    job: JobFile = DEFAULT_JOB, values: Annotated[bool, typer.Option("--values", help="Show the values too, on this "
        "screen; a unit may show secrets.")] = False,
    account: As = "", ssh_key: SshKey = None, key_file: KeyFile = None, quiet: Quiet = False, no_color: NoColor = False,
) -> None:  # fmt: skip
    """Log in as the file says, and list what one page or object holds."""
    from . import family as body

    raise typer.Exit(body.look(unit, place, job, values, Wish(account, ssh_key, False), key_file, quiet, no_color))


@family_app.command("schema")
def family_schema() -> None:
    """The JSON Schema of family files."""
    from . import records as body

    raise typer.Exit(body.schema("family"))


@baseline_app.command("show")
def baseline_show(
    name: Annotated[str, typer.Argument(metavar="NAME")] = "hand-tight",
    job: JobFile = DEFAULT_JOB,
    no_color: NoColor = False,
) -> None:
    """A baseline, line by line, with its numbers."""
    from . import baseline as body

    raise typer.Exit(body.shown(name, job, no_color))


@baseline_app.command("schema")
def baseline_schema() -> None:
    """The JSON Schema of baselines."""
    from . import records as body

    raise typer.Exit(body.schema("baseline"))


BenchState = Annotated[
    Path | None, typer.Option("--state", metavar="DIR", help="Where the bench keeps its fault switch.")
]


@bench_app.command("up")
def bench_up(
    state: BenchState = None,
    network: Network = DEMO_NETWORK,
    fault: Annotated[str, typer.Option("--fault", metavar="KIND")] = "none",
) -> None:
    """Put the units up, until Ctrl-C."""
    from . import bench as body

    raise typer.Exit(body.up(state, network, fault))


@bench_app.command("fault")
def bench_fault(kind: Annotated[str, typer.Argument(metavar="KIND")] = "", state: BenchState = None) -> None:
    """Make the running bench misbehave; without a kind, list the kinds."""
    from . import bench as body

    raise typer.Exit(body.fault(kind, state))
