"""Every command: where it is, in which group, what it says of itself, and examples: nothing of a command
is loaded before it is named."""

from typing import NamedTuple


class CommandEntry(NamedTuple):
    """A command. `made_by` is a module of `filigree.cli` and a function in it; `summary` the first words
    of its help; `kind` the class of the command, where it is one of its own, likewise."""

    name: str
    made_by: str
    group: str
    summary: str
    examples: tuple[str, ...]
    kind: str | None = None


_LOOK, _TRACE, _CHECK, _SOURCES, _TIME, _TELL, _FLEET = (
    "Look",
    "Trace",
    "Check",
    "Sources",
    "Time",
    "Tell",
    "Fleet",
)
COMMANDS = (
    CommandEntry(
        "survey", "look:survey", _LOOK,
        "What kind of system is this: family, counts, sizes, freshness, health at a glance.",
        ("survey", "survey --root /mnt/heron"),
    ),
    CommandEntry(
        "census", "look:census", _LOOK, "What is installed: filtered, sorted, counted, totalled.",
        ("census tide", "census --chosen --sort size --limit 10", "census --any chart",
         "census --outsiders", "census --word tide --columns name,version,installed_at"),
    ),
    CommandEntry(
        "dossier", "look:dossier", _LOOK, "Everything known of a package.",
        ("dossier tidegauge", "dossier /usr/bin/foghorn", "dossier --full 'libbrine*'",
         "dossier ./tidegauge-2.2-1.x86_64.rpm"),
    ),
    CommandEntry(
        "seek", "look:seek", _LOOK, "Which packages match some words, installed or available.",
        ("seek tide table", "seek --names-only chart", "seek --regex '^lib.*[0-9]$' --installed"),
    ),
    CommandEntry(
        "contents", "look:contents", _LOOK, "Which files are in a package, by role.",
        ("contents tidegauge", "contents chartroom --role program --role config",
         "contents tidetables --tree", "contents './archives/*.deb'"),
    ),
    CommandEntry(
        "owner", "look:owner", _LOOK, "Which package a path comes from, and how we know.",
        ("owner /usr/bin/tidegauge", "owner tidegauge", "owner '/etc/tide*/**'",
         "owner tidegauge --in './archives/*.rpm'"),
    ),
    CommandEntry(
        "needs", "trace:needs", _TRACE, "What a package requires, with versions, met or unmet.",
        ("needs tidegauge", "needs tidegauge --deep", "needs ./tidegauge-2.2-1.x86_64.rpm",
         "needs chartroom --kinds recommends,suggests"),
    ),
    CommandEntry(
        "needed-by", "trace:needed_by", _TRACE, "What requires a package.",
        ("needed-by libbrine2", "needed-by libbrine2 --deep", "needed-by brine-data --kinds all"),
    ),
    CommandEntry(
        "because", "trace:because", _TRACE,
        "Why a package is here: the chains from what was chosen to it.",
        ("because libfathom1", "because brine-data --chains 5", "because weirgate --any"),
    ),
    CommandEntry(
        "obstacles", "trace:obstacles", _TRACE,
        "What keeps a package that is offered, or an archive, from being installed here.",
        ("obstacles weirgate", "obstacles ./tidegauge_2.2-1_amd64.deb", "obstacles 'tide*'"),
    ),
    CommandEntry(
        "whatif", "trace:whatif", _TRACE,
        "What would come, go, change and be left over. Nothing is changed.",
        ("whatif --add weirgate", "whatif --drop libbrine2", "whatif --upgrade",
         "whatif --add weirgate --drop lockgate --with-recommends"),
        "planned:BareUpgrade",
    ),
    CommandEntry(
        "draw", "trace:draw", _TRACE, "A picture of who needs a package, and of what it needs.",
        ("draw tidegauge --into tidegauge.png",
         "draw libbrine2 --only needed-by --deep --into brine.svg",
         "draw chartroom --kinds all --into chartroom.graphml"),
    ),
    CommandEntry(
        "verify", "check:verify", _CHECK, "Whether files are still as shipped.",
        ("verify", "verify tidegauge --all",
         "verify --root /mnt/heron --only altered --format json",
         "verify --evidence signed --fetch --keyring ./office-keys.asc",
         "verify tidegauge --against ./archives"),
    ),
    CommandEntry(
        "provenance", "check:provenance", _CHECK,
        "The chain from a key to this package, link by link.",
        ("provenance tidegauge", "provenance /usr/bin/tidegauge --fetch",
         "provenance ./tidegauge-2.2-1.x86_64.rpm --keyring ./office-keys.asc"),
    ),
    CommandEntry(
        "keys", "check:keys", _CHECK, "Which keys this system trusts, for what.",
        ("keys", "keys --needed", "keys --root /mnt/heron --keyring ./office-keys.asc"),
    ),
    CommandEntry(
        "strays", "check:strays", _CHECK, "Which files come from no package.",
        ("strays", "strays /usr/sbin /opt", "strays --root /mnt/heron --format json"),
    ),
    CommandEntry(
        "findings", "judge:findings", _CHECK, "What is wrong with this system, worst first.",
        ("findings", "findings --least high --fail-at critical",
         "findings --explain program-of-nobody",
         "findings --root /mnt/heron --keyring ./office-keys.asc"),
    ),
    CommandEntry(
        "running", "judge:running", _CHECK,
        "Which programs run now, whose they are, and whether they are what is on the disk.",
        ("running", "running --all", "running 1 4711", "running --evidence signed"),
    ),
    CommandEntry(
        "layers", "check:layers", _CHECK,
        "What each layer of an image brings, changes and takes away.",
        ("layers --root ./gauge-image.tar",
         "layers --root ./images --image gauge:2.1 --format json"),
    ),
    CommandEntry(
        "repos", "sources:repos", _SOURCES, "Which repositories, in detail.",
        ("repos", "repos coast-base", "repos --root /mnt/heron --keyring ./office-keys.asc"),
    ),
    CommandEntry(
        "behind", "sources:behind", _SOURCES,
        "What has a newer version, which of it is for security.",
        ("behind", "behind --security", "behind --root /mnt/heron --format json"),
    ),
    CommandEntry(
        "refresh", "sources:refresh", _SOURCES,
        "Fetch the indexes of repositories into your own cache; the system is not touched.",
        ("refresh", "refresh --root /mnt/heron --keyring ./keys.asc", "refresh coast-base --paths"),
    ),
    CommandEntry(
        "snapshot", "keep:snapshot", _TIME,
        "Keep this root as one file, that answers every question later.",
        ("snapshot heron.snapshot --root /mnt/heron --label heron",
         "snapshot before.snapshot --sign ./auditor-key.asc",
         "verify --root before.snapshot --keyring ./auditor.asc"),
    ),
    CommandEntry(
        "compare", "keep:compare", _TIME,
        "What differs between two roots, and what of it nothing explains.",
        ("compare before.snapshot /",
         "compare before.snapshot after.snapshot --only unexplained --keyring ./auditor.asc",
         "compare image-1.tar image-2.tar '/usr/bin/*'",
         "compare store#heron@2026-11-01 store#heron"),
    ),
    CommandEntry(
        "timeline", "happened:timeline", _TIME,
        "What was installed, changed and removed, when; and what of it nothing explains.",
        ("timeline --since '3 days'", "timeline tidegauge",
         "timeline --around /usr/bin/tidegauge --within '2 hours'",
         "timeline --root /mnt/heron --with before.snapshot --unexplained",
         "timeline --by month --into years.png"),
    ),
    CommandEntry(
        "report", "tell:report", _TELL,
        "Hand over what was found: a page for people, or a form for other programs.",
        ("report audit.html --root /mnt/heron --for 'the harbour master'",
         "report inventory.json --as cyclonedx --root /mnt/heron",
         "report then.json --as cyclonedx --add weirgate", "report findings.sarif --as sarif",
         "report heron.json --as spdx --root heron.snapshot --stated --sign ./auditor.pem",
         "report expected.mtree --as mtree --root image.tar",
         "report found.mtree --as mtree --found --root image.tar",
         "report packages.parquet --as parquet --part packages"),
        "planned:BareUpgrade",
    ),
    CommandEntry(
        "demo", "demo:demo", _TELL, "Build the made-up systems, and walk through an audit of them.",
        ("demo", "demo --into stations", "demo --into stations --build-only"),
    ),
    CommandEntry(
        "manual", "manual:manual", _TELL, "The manual: of the program, or of one command.",
        ("manual", "manual verify", "manual fleet gather", "manual verify --roff"),
    ),
    CommandEntry(
        "fleet", "", _FLEET,
        "Gathers snapshots of many hosts, and asks of all of them as of one.",
        (), "app:FleetCommands",
    ),
)  # fmt: skip
FLEET = (
    CommandEntry(
        "gather", "fleet:gather", _FLEET,
        "Take snapshots into a store, one after the other, each judged first.",
        ("fleet gather store *.snapshot --hosts hosts.toml", "fleet gather store --root /mnt/heron"),
    ),
    CommandEntry(
        "tidy", "fleet:tidy", _FLEET,
        "Check every digest of a store, drop what is not to be kept, and compact it.",
        ("fleet tidy store", "fleet tidy store --keep-days 90 --keep-monthly 24"),
    ),
    CommandEntry(
        "hosts", "fleet:hosts", _FLEET,
        "Who is there, how old, of which kind; the odd ones of each kind first.",
        ("fleet hosts store", "fleet hosts store --host 'gauge-*' --as-of 2026-03-01"),
    ),
    CommandEntry(
        "census", "fleet:census", _FLEET, "Which hosts have a package, in which versions.",
        ("fleet census store tidegauge", "fleet census store 'libbrine*' --group-by host",
         "fleet census store tidegauge --older-than 2.1-3"),
    ),
    CommandEntry(
        "behind", "fleet:behind", _FLEET,
        "What has a newer version, at how many hosts, by the indexes that they had.",
        ("fleet behind store --security", "fleet behind store --group-by host"),
    ),
    CommandEntry(
        "owner", "fleet:owner", _FLEET,
        "Whose a path is, or a file of a digest; at how many hosts.",
        ("fleet owner store /usr/bin/tidegauge", "fleet owner store sha256:91ab…"),
    ),
    CommandEntry(
        "needed-by", "fleet:needed_by", _FLEET, "Which hosts would lose what, if a package went.",
        ("fleet needed-by store libbrine2", "fleet needed-by store 'jetty*' --group-by host"),
    ),
    CommandEntry(
        "timeline", "fleet:timeline", _FLEET, "What the histories of hosts tell, day by day.",
        ("fleet timeline store --since '7 days'",),
    ),
    CommandEntry(
        "rare", "fleet:rare", _FLEET, "What only few hosts have.",
        ("fleet rare store", "fleet rare store --at-most 1 --only file,key"),
    ),
    CommandEntry(
        "differ", "fleet:differ", _FLEET,
        "Files that are unlike what the same package in the same version has at most hosts.",
        ("fleet differ store", "fleet differ store --engine sc://quay:15002"),
    ),
    CommandEntry(
        "changed", "fleet:changed", _FLEET,
        "What became of each host from one time to another, and what of it nothing explains.",
        ("fleet changed store --since 2026-03-01", "fleet changed store --since '2 days'"),
    ),
    CommandEntry(
        "findings", "fleet:findings", _FLEET, "What is wrong, by rule or by host, worst first.",
        ("fleet findings store", "fleet findings store --group-by host"),
    ),
    CommandEntry(
        "keys", "fleet:keys", _FLEET, "Which keys are trusted, at how many hosts.",
        ("fleet keys store",),
    ),
    CommandEntry(
        "repos", "fleet:repos", _FLEET, "Which repositories there are, at how many hosts.",
        ("fleet repos store",),
    ),
    CommandEntry(
        "gaps", "fleet:gaps", _FLEET, "What could not be looked at, and what was refused.",
        ("fleet gaps store",),
    ),
    CommandEntry(
        "ask", "fleet:ask", _FLEET,
        "Ask the tables themselves; docs/fleet.md tells what they hold.",
        ("fleet ask store 'SELECT host, packages FROM snapshots'",),
    ),
)  # fmt: skip
