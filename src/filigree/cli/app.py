"""The program: its commands in their groups, and what all of them share."""

from collections.abc import Callable
from typing import Annotated, Any

import typer

from filigree import __version__
from filigree.cli import (
    check,
    demo,
    fleet,
    happened,
    judge,
    keep,
    look,
    manual,
    sources,
    tell,
    trace,
)

app = typer.Typer(
    name="filigree",
    help="An auditor of the packages on a Linux system. It only reads.",
    no_args_is_help=True,
    pretty_exceptions_enable=False,
    rich_markup_mode="rich",
    context_settings={"help_option_names": ["-h", "--help"]},
)

_LOOK, _TRACE, _CHECK, _SOURCES, _TIME, _TELL = (
    "Look", "Trace", "Check", "Sources", "Time", "Tell",
)  # fmt: skip
_COMMANDS: tuple[tuple[str, Callable[..., Any], str, tuple[str, ...]], ...] = (
    ("survey", look.survey, _LOOK, ("survey", "survey --root /mnt/heron")),
    (
        "census",
        look.census,
        _LOOK,
        (
            "census tide",
            "census --chosen --sort size --limit 10",
            "census --any chart",
            "census --outsiders",
            "census --word tide --columns name,version,installed_at",
        ),
    ),
    (
        "dossier",
        look.dossier,
        _LOOK,
        (
            "dossier tidegauge",
            "dossier /usr/bin/foghorn",
            "dossier --full 'libbrine*'",
            "dossier ./tidegauge-2.2-1.x86_64.rpm",
        ),
    ),
    (
        "seek",
        look.seek,
        _LOOK,
        ("seek tide table", "seek --names-only chart", "seek --regex '^lib.*[0-9]$' --installed"),
    ),
    (
        "contents",
        look.contents,
        _LOOK,
        (
            "contents tidegauge",
            "contents chartroom --role program --role config",
            "contents tidetables --tree",
            "contents './archives/*.deb'",
        ),
    ),
    (
        "owner",
        look.owner,
        _LOOK,
        (
            "owner /usr/bin/tidegauge",
            "owner tidegauge",
            "owner '/etc/tide*/**'",
            "owner tidegauge --in './archives/*.rpm'",
        ),
    ),
    (
        "needs",
        trace.needs,
        _TRACE,
        (
            "needs tidegauge",
            "needs tidegauge --deep",
            "needs ./tidegauge-2.2-1.x86_64.rpm",
            "needs chartroom --kinds recommends,suggests",
        ),
    ),
    (
        "needed-by",
        trace.needed_by,
        _TRACE,
        ("needed-by libbrine2", "needed-by libbrine2 --deep", "needed-by brine-data --kinds all"),
    ),
    (
        "because",
        trace.because,
        _TRACE,
        ("because libfathom1", "because brine-data --chains 5", "because weirgate --any"),
    ),
    (
        "obstacles",
        trace.obstacles,
        _TRACE,
        ("obstacles weirgate", "obstacles ./tidegauge_2.2-1_amd64.deb", "obstacles 'tide*'"),
    ),
    (
        "whatif",
        trace.whatif,
        _TRACE,
        (
            "whatif --add weirgate",
            "whatif --drop libbrine2",
            "whatif --upgrade",
            "whatif --add weirgate --drop lockgate --with-recommends",
        ),
    ),
    (
        "draw",
        trace.draw,
        _TRACE,
        (
            "draw tidegauge --into tidegauge.png",
            "draw libbrine2 --only needed-by --deep --into brine.svg",
            "draw chartroom --kinds all --into chartroom.graphml",
        ),
    ),
    (
        "verify",
        check.verify,
        _CHECK,
        (
            "verify",
            "verify tidegauge --all",
            "verify --root /mnt/heron --only altered --format json",
            "verify --evidence signed --fetch --keyring ./office-keys.asc",
            "verify tidegauge --against ./archives",
        ),
    ),
    (
        "provenance",
        check.provenance,
        _CHECK,
        (
            "provenance tidegauge",
            "provenance /usr/bin/tidegauge --fetch",
            "provenance ./tidegauge-2.2-1.x86_64.rpm --keyring ./office-keys.asc",
        ),
    ),
    (
        "keys",
        check.keys,
        _CHECK,
        ("keys", "keys --needed", "keys --root /mnt/heron --keyring ./office-keys.asc"),
    ),
    (
        "strays",
        check.strays,
        _CHECK,
        ("strays", "strays /usr/sbin /opt", "strays --root /mnt/heron --format json"),
    ),
    (
        "findings",
        judge.findings,
        _CHECK,
        (
            "findings",
            "findings --least high --fail-at critical",
            "findings --explain program-of-nobody",
            "findings --root /mnt/heron --keyring ./office-keys.asc",
        ),
    ),
    (
        "running",
        judge.running,
        _CHECK,
        ("running", "running --all", "running 1 4711", "running --evidence signed"),
    ),
    (
        "layers",
        check.layers,
        _CHECK,
        (
            "layers --root ./gauge-image.tar",
            "layers --root ./images --image gauge:2.1 --format json",
        ),
    ),
    (
        "repos",
        sources.repos,
        _SOURCES,
        ("repos", "repos coast-base", "repos --root /mnt/heron --keyring ./office-keys.asc"),
    ),
    (
        "behind",
        sources.behind,
        _SOURCES,
        ("behind", "behind --security", "behind --root /mnt/heron --format json"),
    ),
    (
        "refresh",
        sources.refresh,
        _SOURCES,
        (
            "refresh",
            "refresh --root /mnt/heron --keyring ./keys.asc",
            "refresh coast-base --paths",
        ),
    ),
    (
        "snapshot",
        keep.snapshot,
        _TIME,
        (
            "snapshot heron.snapshot --root /mnt/heron --label heron",
            "snapshot before.snapshot --sign ./auditor-key.asc",
            "verify --root before.snapshot --keyring ./auditor.asc",
        ),
    ),
    (
        "compare",
        keep.compare,
        _TIME,
        (
            "compare before.snapshot /",
            "compare before.snapshot after.snapshot --only unexplained --keyring ./auditor.asc",
            "compare image-1.tar image-2.tar '/usr/bin/*'",
            "compare store#heron@2026-11-01 store#heron",
        ),
    ),
    (
        "timeline",
        happened.timeline,
        _TIME,
        (
            "timeline --since '3 days'",
            "timeline tidegauge",
            "timeline --around /usr/bin/tidegauge --within '2 hours'",
            "timeline --root /mnt/heron --with before.snapshot --unexplained",
            "timeline --by month --into years.png",
        ),
    ),
    (
        "report",
        tell.report,
        _TELL,
        (
            "report audit.html --root /mnt/heron --for 'the harbour master'",
            "report inventory.json --as cyclonedx --root /mnt/heron",
            "report findings.sarif --as sarif",
            "report heron.json --as spdx --root heron.snapshot --stated --sign ./auditor.pem",
            "report expected.mtree --as mtree --root image.tar",
            "report packages.parquet --as parquet --part packages",
        ),
    ),
    (
        "demo",
        demo.demo,
        _TELL,
        ("demo", "demo --into stations", "demo --into stations --build-only"),
    ),
)


def _epilog(examples: tuple[str, ...]) -> str:
    return "\n\n".join(["Examples:", *(f"  filigree {example}" for example in examples)])


for _name, _command, _panel, _examples in _COMMANDS:
    _kind = trace.BareUpgrade if _name == "whatif" else None
    app.command(_name, cls=_kind, rich_help_panel=_panel, epilog=_epilog(_examples))(_command)


app.command(
    "manual",
    rich_help_panel=_TELL,
    epilog=_epilog(("manual", "manual verify", "manual fleet gather", "manual verify --roff")),
)(manual.manual)
app.add_typer(fleet.app, name="fleet", rich_help_panel="Fleet")


def _version(asked: bool) -> None:
    if asked:
        typer.echo(f"filigree {__version__}")
        raise typer.Exit


@app.callback()
def _main(
    version: Annotated[
        bool,
        typer.Option(
            "--version", callback=_version, is_eager=True, help="Say the version, and end."
        ),
    ] = False,
) -> None:
    pass
