"""The packages of the made-up world, in no family's format: what each is, needs and holds.

No name here is a real package's. The table is read by every station's builder.
"""

from dataclasses import dataclass

SEED = "sallow coast"
OFFICE = "Sallow Coast Tide Office"
PEOPLE = (
    "Ottoline Marsh <ottoline@tides.example>",
    "Barnaby Culver <barnaby@tides.example>",
    "Wilhelmina Strand <wilhelmina@tides.example>",
)


@dataclass(frozen=True, slots=True)
class Ware:
    """One made-up package.

    Needs are written `name (>= version) | other`, divided by commas. `programs`, `daemons` are
    names of commands; `library` is a soname; `data`, `headers`, `locales` count or name files;
    `settings` are configuration files below `/etc`.
    """

    name: str
    version: str
    section: str
    summary: str
    needs: str = ""
    needs_first: str = ""
    recommends: str = ""
    suggests: str = ""
    enhances: str = ""
    breaks: str = ""
    conflicts: str = ""
    replaces: str = ""
    provides: str = ""
    programs: tuple[str, ...] = ()
    daemons: tuple[str, ...] = ()
    library: str = ""
    data: int = 0
    data_size: int = 6000
    headers: int = 0
    locales: tuple[str, ...] = ()
    settings: tuple[str, ...] = ()
    chosen: bool = False
    essential: bool = False
    any_machine: bool = False
    foreign: bool = False
    epoch: int = 0
    source: str = ""
    scripts: tuple[str, ...] = ()
    one_file: bool = False


WARES: tuple[Ware, ...] = (
    # The ground that everything stands on.
    Ware("coastbase", "12.4-1", "base", "Directories and first settings of a station", chosen=True,
         essential=True, any_machine=True, settings=("station.conf", "motd"), data=2,
         scripts=("postinst",)),
    Ware("libsaltc6", "2.36-4", "libs", "The C library of the coast's stations", library="libsaltc.so.6",
         data=3, locales=("en", "cy", "fy"), essential=True, scripts=("postinst", "triggers")),
    Ware("dulse", "0.9.2-3", "shells", "A small shell for station scripts", needs_first="libsaltc6 (>= 2.34)",
         programs=("dsh",), essential=True, chosen=True, provides="station-shell"),
    Ware("pebbles", "9.1-2", "utils", "Everyday commands of a station", needs_first="libsaltc6 (>= 2.34), libkelp1",
         programs=("pebble-list", "pebble-copy", "pebble-count", "pebble-sum"), locales=("en", "cy"),
         essential=True, chosen=True),
    Ware("cockle", "4.18-1", "admin", "Keeps the station's accounts", needs="libsaltc6, libpamper0 (>= 1.5)",
         programs=("cockle",), settings=("cockle.conf",), chosen=True, essential=True),
    Ware("libpamper0", "1.5.2-6", "libs", "Asks who somebody is", needs="libsaltc6 (>= 2.34), pamper-modules",
         library="libpamper.so.0"),
    Ware("pamper-modules", "1.5.2-6", "admin", "Ways of asking who somebody is", needs="libpamper0 (>= 1.5), libsaltc6",
         data=2, settings=("pamper/session", "pamper/login"), source="libpamper"),
    Ware("gullwing", "252.9-1", "admin", "Starts and stops what a station runs", needs="libsaltc6 (>= 2.34), libgull0 (= 252.9-1), cockle",
         needs_first="libsaltc6", recommends="gullclock | clockwork-time", daemons=("gullwing",), programs=("gullctl",), data=4,
         settings=("gullwing/system.conf",), chosen=True, scripts=("postinst", "prerm")),
    Ware("libgull0", "252.9-1", "libs", "What talks to the starter of services", needs="libsaltc6 (>= 2.34)",
         library="libgull.so.0", source="gullwing"),
    Ware("gullclock", "252.9-1", "admin", "Keeps the station's clock right", needs="gullwing (= 252.9-1), libsaltc6",
         provides="clockwork-time (= 4)", daemons=("gullclockd",), settings=("gullwing/clock.conf",), source="gullwing"),
    # Libraries.
    Ware("libkelp1", "1.2.13-5", "libs", "Packs bytes tightly", needs="libsaltc6 (>= 2.14)", library="libkelp.so.1", source="kelp", foreign=False),
    Ware("libkelp-dev", "1.2.13-5", "libdevel", "Headers of the byte packer", needs="libkelp1 (= 1.2.13-5)", headers=4, source="kelp"),
    Ware("libbrine2", "2.1.4-3", "libs", "Salinity and density of sea water", needs="libsaltc6 (>= 2.34), libkelp1 (>= 1:1.0) | libkelp1 (>= 1.2), brine-data (>= 2.1)",
         library="libbrine.so.2", source="brine", breaks="libbrine1 (<< 2)", replaces="libbrine1 (<< 2)"),
    Ware("libbrine-dev", "2.1.4-3", "libdevel", "Headers of the sea water library", needs="libbrine2 (= 2.1.4-3), libkelp-dev", headers=7, source="brine"),
    Ware("brine-data", "2.1.4-3", "science", "Tables of salinity for every month", any_machine=True, foreign=True, data=12, data_size=24000, source="brine"),
    Ware("libsprat0", "0.4.1-2", "libs", "Draws small pictures of waves", needs="libsaltc6, libkelp1", library="libsprat.so.0"),
    Ware("libanchovy3", "3.0.2-1+b1", "libs", "Reads and writes anchor logs", needs="libsaltc6 (>= 2.34)", library="libanchovy.so.3", source="anchovy"),
    Ware("libsluice3", "3.1.0-2", "libs", "Opens and shuts sluices by wire", needs="libsaltc6 (>= 2.34), libanchovy3 (>= 3.0)", library="libsluice.so.3"),
    Ware("libmussel5", "5.36.1~rc2-1", "libs", "Holds on to connections", needs="libsaltc6 (>= 2.34), libkelp1", library="libmussel.so.5", source="mussel"),
    Ware("libcurrent4", "7.88.1-3", "libs", "Fetches things from other stations", needs="libsaltc6 (>= 2.34), libmussel5 (>= 5.36~), coast-certificates",
         library="libcurrent.so.4", source="current"),
    Ware("coast-certificates", "20260115", "misc", "Certificates that the office trusts", any_machine=True, foreign=True, data=6, settings=("certificates.conf",), scripts=("postinst", "config")),
    Ware("libskua8", "8.2.1-2", "libs", "Edits a line as it is typed", needs="libsaltc6 (>= 2.33), skua-base", library="libskua.so.8", source="skua"),
    Ware("skua-base", "8.2.1-2", "misc", "Descriptions of terminals", any_machine=True, foreign=True, data=5, source="skua"),
    Ware("libwhelk2", "2.10.34-1", "libs", "Stores values by key in one file", needs="libsaltc6 (>= 2.34), libskua8", library="libwhelk.so.2", source="whelk"),
    Ware("whelk", "2.10.34-1", "database", "Asks the store of values by key", needs="libwhelk2 (= 2.10.34-1), libskua8 (>= 8.0)", programs=("whelk",), source="whelk"),
    Ware("liblimpet7", "7.4.052-1", "libs", "Sticks tables together", needs="libsaltc6 (>= 2.34), libwhelk2 (>= 2.10)", library="liblimpet.so.7"),
    Ware("libperiwinkle12", "12.8-0", "libs", "Turns spirals into numbers", needs="libsaltc6 (>= 2.34), libkelp1", library="libperiwinkle.so.12"),
    Ware("libgannet6", "6.9.11.60-1", "libs", "Dives into pictures", needs="libsaltc6, libkelp1, libperiwinkle12, libpuffin16", library="libgannet.so.6", source="gannet"),
    Ware("libpuffin16", "1.6.39-2", "libs", "Small colourful pictures", needs="libsaltc6 (>= 2.29), libkelp1 (>= 1.2.11)", library="libpuffin.so.16"),
    Ware("libfathom1", "1.4.2-1", "libs", "Measures depth by sound", needs="libsaltc6 (>= 2.34)", library="libfathom.so.1", provides="fathom-api (= 1.4)", source="fathom"),
    # What the stations are for.
    Ware("tidegauge", "2.1-3", "science", "Reads the tide gauge and writes what it says", needs="libsaltc6 (>= 2.34), libbrine2 (>= 2.1), libfathom1, gullwing",
         recommends="tidetables, mail-courier", suggests="chartroom, foghorn", programs=("tidegauge", "tidegauge-calibrate"), daemons=("tidegauged",),
         settings=("tidegauge/gauge.conf", "tidegauge/stations.d/heron.conf"), data=3, locales=("en", "cy", "fy", "kw"), chosen=True,
         epoch=1, scripts=("preinst", "postinst", "prerm", "postrm")),
    Ware("tidetables", "2026.2-1", "science", "Printed tide tables of the whole coast", needs="tidetables-calc (>= 2026)", any_machine=True, data=18, data_size=9000,
         programs=("tidetable",), settings=("tidetables.conf",), chosen=True),
    Ware("tidetables-calc", "2026.2-1", "science", "Works out tide tables from harmonics", needs="tidetables (= 2026.2-1), libsaltc6 (>= 2.34), libbrine2 (>= 2.1), libperiwinkle12",
         programs=("tidecalc",), data=4, source="tidetables"),
    Ware("mudflatd", "0.7.11-2", "net", "Tells other stations what the gauge says", needs="libsaltc6 (>= 2.34), libcurrent4 (>= 7.80), libwhelk2, gullwing, cockle",
         recommends="coast-certificates", suggests="mudflat-doc", daemons=("mudflatd",), programs=("mudflat",), settings=("mudflatd/mudflatd.conf", "mudflatd/peers"),
         chosen=True, scripts=("postinst", "postrm"), source="mudflat"),
    Ware("mudflat-doc", "0.7.11-2", "doc", "The manual of the station network", any_machine=True, data=9, source="mudflat", chosen=True),
    Ware("foghorn", "3.2.0-1", "sound", "Sounds the horn when the fog comes", needs="libsaltc6 (>= 2.34), libmussel5, gullwing", enhances="tidegauge",
         programs=("foghorn", "foghorn-test"), daemons=("foghornd",), settings=("foghorn.conf",), data=2, chosen=True),
    Ware("chartroom", "5.4.1-2", "graphics", "Shows charts with the water as it stands", needs="libsaltc6 (>= 2.34), libgannet6 (>= 6.9), libbrine2, chart-data, liblimpet7",
         recommends="tidegauge (>= 1:2)", suggests="ropewalk", provides="chart-viewer", programs=("chartroom", "plot-chart"), data=6, locales=("en", "cy"),
         settings=("chartroom/colours",), chosen=True),
    Ware("chartroom-lite", "1.0.7-4", "graphics", "Shows charts on a small screen", needs="libsaltc6 (>= 2.34), libpuffin16, chart-data", provides="chart-viewer",
         programs=("chartlite",), data=1),
    Ware("chart-data", "2026a-1", "graphics", "Soundings and outlines of the coast", any_machine=True, foreign=True, data=14, data_size=30000, chosen=False),
    Ware("lockgate", "1.8-5", "admin", "Works the gates of a lock", needs="libsaltc6 (>= 2.34), libsluice3 (>= 3.0), cockle", conflicts="weirgate",
         daemons=("lockgate",), programs=("lockgate-status",), settings=("lockgate.conf",), chosen=True, scripts=("postinst",)),
    Ware("lockgate-firmware", "1.9-1", "admin", "What runs inside the gate motors", needs="lockgate (>= 1.8), libsluice3 (>= 3.2)", data=3, data_size=40000),
    Ware("siltmeter", "0.3.9-1", "science", "Weighs the silt in the water", needs="libsaltc6 (>= 2.34), libfathom1 (>= 1.4), libbrine2 (>= 2.0)", programs=("siltmeter",),
         data=2, settings=("siltmeter.conf",), chosen=True),
    Ware("ropewalk", "4.0-7", "utils", "Splices readings into long series", needs="libsaltc6 (>= 2.34), libwhelk2, ropewalk-common (= 4.0-7)", programs=("ropewalk", "plot-chart"),
         chosen=True),
    Ware("ropewalk-common", "4.0-7", "utils", "Patterns for splicing readings", any_machine=True, foreign=True, data=5, source="ropewalk"),
    Ware("gullpost", "4.96-15", "mail", "Carries letters between stations", needs="libsaltc6 (>= 2.34), libmussel5, cockle, gullpost-config", provides="mail-courier",
         daemons=("gullpost",), programs=("gullqueue",), settings=("gullpost/routes",), scripts=("postinst", "config")),
    Ware("gullpost-config", "4.96-15", "mail", "Settings of the letter carrier", any_machine=True, settings=("gullpost/gullpost.conf", "gullpost/aliases"), source="gullpost"),
    Ware("weatherglass", "6.1-2", "science", "Reads the barometer", needs="libsaltc6 (>= 2.34), libfathom1 (>= 1.2)", recommends="tidegauge", programs=("weatherglass",),
         locales=("en", "fy"), settings=("weatherglass.conf",), chosen=True),
    Ware("buoywatch", "2.2.3-1", "net", "Listens to the buoys", needs="libsaltc6 (>= 2.34), libcurrent4, buoy-data | buoy-data-small", daemons=("buoywatchd",), programs=("buoywatch",),
         settings=("buoywatch.conf",), chosen=True, scripts=("postinst",)),
    Ware("buoy-data-small", "2025.4", "net", "Where the nearest buoys are", any_machine=True, foreign=True, provides="buoy-data", data=2),
    Ware("harbourlog", "1.14-1", "admin", "The log book of the harbour", needs="libsaltc6 (>= 2.34), libanchovy3, whelk", programs=("harbourlog",), settings=("harbourlog/harbourlog.conf",),
         data=1, chosen=True),
    Ware("spindrift", "0.99~beta4-1", "net", "Spreads readings as they come", needs="libsaltc6 (>= 2.34), libmussel5, libcurrent4", programs=("spindrift",), chosen=True),
    Ware("dredger", "3.1-1", "utils", "Digs in old readings", needs="libsaltc6 (>= 2.34), liblimpet7, dulse", programs=("dredger", "dredger-sift"), locales=("en",), chosen=True),
    Ware("jetty", "1.1.0-2", "net", "Where other stations tie up", needs="libsaltc6 (>= 2.34), libmussel5 (>= 5.30), cockle, gullwing", daemons=("jettyd",), programs=("jetty-keys",),
         settings=("jetty/jettyd.conf", "jetty/keys"), chosen=True, scripts=("postinst", "prerm")),
    Ware("jetty-client", "1.1.0-2", "net", "Ties up at other stations", needs="libsaltc6 (>= 2.34), libmussel5 (>= 5.30)", programs=("jetty",), settings=("jetty/client.conf",), source="jetty"),
    Ware("quayside", "20.4-1", "web", "A page that shows the tide", needs="libsaltc6 (>= 2.34), libcurrent4, quayside-common (>= 20), libsprat1 | libpuffin16", daemons=("quaysided",),
         settings=("quayside/quayside.conf", "quayside/pages.d/default"), chosen=True),
    Ware("quayside-common", "20.4-1", "web", "Pictures and words of the tide page", any_machine=True, foreign=True, data=8, locales=("en", "cy", "fy", "kw"), source="quayside"),
    Ware("seaholly", "5.0-1", "doc", "Field guide to what grows on a dike", any_machine=True, data=10, chosen=True),
    Ware("marram", "2.7-1", "utils", "Binds loose readings together", needs="libsaltc6 (>= 2.34), libkelp1", programs=("marram",), chosen=True),
    Ware("estuary-fonts", "1.3-1", "fonts", "Letters that can be read in the rain", any_machine=True, foreign=True, data=4, data_size=45000),
    Ware("station-report", "1.0-6", "utils", "Prints the monthly report", needs="dulse, tidetables, weatherglass, estuary-fonts, station-shell", any_machine=True, programs=("station-report",),
         settings=("station-report.conf",), chosen=True),
    Ware("sandglass", "0.2-1", "utils", "Counts down to the turn of the tide", needs="libsaltc6 (>= 2.34)", programs=("sandglass",), chosen=True),
    Ware("oldgauge", "1.9-8", "science", "Read the gauge before there was a better way", needs="libsaltc6", settings=("oldgauge.conf",)),
)  # fmt: skip

STATION_WARES: tuple[Ware, ...] = (
    # What a station with records of every aspect has besides: two versions side by side, one file by two
    # names, a place that is only claimed.
    Ware("bedrock", "6.1.4-1", "base", "What runs on the bare machine", programs=(), data=3, data_size=20000, chosen=True, essential=True),
    Ware("bedrock", "6.1.9-2", "base", "What runs on the bare machine", programs=(), data=3, data_size=20000, chosen=True, essential=True),
    Ware("oystercatcher", "1.12-3", "utils", "Opens and shuts readings", needs="libsaltc6 (>= 2.34), libkelp1", programs=("oyster-open", "oyster-shut"), one_file=True, chosen=True),
    Ware("saltpan", "0.8-1", "science", "Lets readings dry into tables", needs="libsaltc6 (>= 2.34), libbrine2 (>= 2.1)", programs=("saltpan",), settings=("saltpan.conf",), data=2),
)  # fmt: skip
