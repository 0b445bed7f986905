"""How the layers of an image are shown: what one did to the packages of another stands first."""

from collections.abc import Iterator, Sequence
from typing import Any

from filigree.model.answer import Answer
from filigree.model.files import Aspect, Kind, Role
from filigree.questions.commands.layers import LayerRow, LayersSummary
from filigree.questions.finding.layer_changes import LayerPackage, LayerPath
from filigree.questions.finding.ranks import Rank
from filigree.views.options import LayersOptions
from filigree.views.page import Column, Ink, Piece, Style, line
from filigree.views.screens.words import closing
from filigree.views.text import count_words, listed, size_words

_FIELDS = (
    "number", "digest", "made_at", "made_by", "size", "unpacked", "brings", "changes", "removes",
    "altered_paths", "removed_paths", "paths_of_nobody", "hidden_paths", "troubles",
)  # fmt: skip
_FOREIGN = (
    Column("layer", right=True), Column("path", wrap=True), Column("what was done", wrap=True),
    Column("package", wrap=True),
)  # fmt: skip
_NOBODYS = (
    Column("layer", right=True), Column("path", wrap=True), Column("mode"), Column("size", right=True),
    Column("", wrap=True),
)  # fmt: skip
_LAYERS = (
    Column("layer", right=True), Column("size", right=True), Column("made"),
    Column("packages", wrap=True),
    Column("nobody's", right=True), Column("hidden above", right=True),
)  # fmt: skip
_FEW = 6
_WORDS = {
    Aspect.KIND: "of another kind", Aspect.CONTENT: "other content", Aspect.MODE: "other mode",
    Aspect.OWNER: "other owner", Aspect.GROUP: "other group", Aspect.LINK_TARGET: "leads elsewhere",
    Aspect.DEVICE: "another device", Aspect.CAPABILITIES: "other capabilities",
}  # fmt: skip


def screen(
    answer: Answer[LayerRow, LayersSummary], ink: Ink, options: LayersOptions
) -> Iterator[str]:
    """The answer of `layers` for people."""
    yield from _part(
        ink, "Files of packages that another layer altered or removed", Style.BAD, _FOREIGN,
        [_foreign(row, path) for row in answer.records for path in row.files.foreign],
    )  # fmt: skip
    yield from _part(
        ink, "Programs that no package brought", Style.WARN, _NOBODYS,
        [
            _nobodys(row, path)
            for row in answer.records
            for path in row.files.of_nobody
            if options.every or path.cause is None
        ],
    )  # fmt: skip
    yield from _part(
        ink, "Programs of one layer that a higher one hides", Style.WARN, _NOBODYS,
        [
            _hidden(row, path)
            for row in answer.records
            for path in row.files.hidden
            if options.every or path.rank is Rank.RIGHTS
        ],
    )  # fmt: skip
    for row in answer.records:
        for why in row.troubles:
            yield from ink.flowed(
                line(Piece(f"Layer {row.number} is not what it is said to be: {why}", Style.BAD))
            )
    yield ink.paint(line(Piece("Layers, the lowest first", Style.TITLE)))
    yield from ink.table(_LAYERS, [_layer(row, options) for row in answer.records], indent=2)
    yield ""
    yield from _instructions(answer.records, ink)
    yield from closing(ink, *_closing(answer.summary))


def titles(options: LayersOptions) -> Sequence[str]:
    """What each part of a row is called."""
    return _FIELDS


def rows(
    answer: Answer[LayerRow, LayersSummary], options: LayersOptions
) -> Iterator[Sequence[Any]]:
    """The answer for programs: a record a row; of what is nobody's or hidden, how many there are."""
    for row in answer.records:
        files = row.files
        yield (
            row.number, row.digest, row.made_at, row.made_by, row.size, row.unpacked,
            [_labelled(one) for one in row.brings], [_labelled(one) for one in row.changes],
            [_labelled(one) for one in row.removes], [one.path for one in files.altered],
            [one.path for one in files.removed], files.of_nobody_count, files.hidden_count, row.troubles,
        )  # fmt: skip


def _part(
    ink: Ink, title: str, style: Style, columns: Sequence[Column], cells: list[list[str | Piece]]
) -> Iterator[str]:
    if cells:
        yield ink.paint(line(Piece(title, style)))
        yield from ink.table(columns, cells, indent=2)
        yield ""


def _foreign(row: LayerRow, path: LayerPath) -> list[str | Piece]:
    what = [_done(aspect, path) for aspect in path.aspects if aspect in _WORDS]
    if Aspect.PRESENCE in path.aspects:
        what = ["removed"] if path in row.files.removed else ["came only here"]
    if path.rank is Rank.RIGHTS:
        what.append("with somebody else's rights")
    if path.role is Role.CONFIG:
        what.append("configuration")
    since = "" if path.recorded_in is None else f", recorded in layer {path.recorded_in}"
    style = Style.WARN if path.role is Role.CONFIG else Style.BAD
    return [
        str(row.number), Piece(path.path, Style.NAME), Piece(", ".join(what), style),
        f"{path.package}{since}",
    ]  # fmt: skip


def _done(aspect: Aspect, path: LayerPath) -> str:
    if aspect is Aspect.MODE:
        return f"mode {path.mode}, was {path.mode_before}"
    leads = path.link_target is not None and aspect in (Aspect.KIND, Aspect.LINK_TARGET)
    if leads and path.kind is Kind.LINK:
        return f"{'now a link, ' if aspect is Aspect.KIND else ''}leads to {path.link_target}"
    return _WORDS[aspect]


def _nobodys(row: LayerRow, path: LayerPath) -> list[str | Piece]:
    words = [path.cause.value] if path.cause else []
    if path.over is not None:
        words.append(f"another one than in layer {path.over}")
    if path.rank is Rank.RIGHTS:
        words.insert(0, "runs with somebody else's rights")
    return [
        str(row.number), Piece(path.path, Style.NAME), path.mode, size_words(path.size),
        Piece("; ".join(words), Style.FAINT),
    ]  # fmt: skip


def _hidden(row: LayerRow, path: LayerPath) -> list[str | Piece]:
    words = f"hidden by layer {path.hidden_by}"
    if path.package:
        words += f"; of {path.package}"
    if path.rank is Rank.RIGHTS:
        words += "; runs with somebody else's rights"
    return [
        str(row.number), Piece(path.path, Style.NAME), path.mode, size_words(path.size),
        Piece(words, Style.FAINT),
    ]  # fmt: skip


def _layer(row: LayerRow, options: LayersOptions) -> list[str | Piece]:
    files = row.files
    parts = [
        _packages(verb, found, options.every)
        for verb, found in (
            ("brings", row.brings),
            ("changes", [one for one in row.changes if one.before != one.version]),
            ("removes", row.removes),
        )
        if found
    ]
    if rewritten := [one for one in row.changes if one.before == one.version]:
        parts.append(_packages("writes anew the record of", rewritten, options.every))
    return [
        str(row.number), size_words(row.size), (row.made_at or "")[:10], "; ".join(parts),
        f"{files.of_nobody_count:,}" if files.of_nobody_count else "",
        size_words(files.hidden_size) if files.hidden_size else "",
    ]  # fmt: skip


def _packages(verb: str, found: Sequence[LayerPackage], every: bool) -> str:
    if not every and len(found) > _FEW:
        return f"{verb} {len(found):,}"
    return f"{verb} {listed([_short(one) for one in found])}"


def _short(one: LayerPackage) -> str:
    if one.before in (None, one.version):
        return f"{one.name} {one.version}"
    return f"{one.name} {one.before} → {one.version}"


def _labelled(one: LayerPackage) -> str:
    return f"{one.name} {one.version}" + (f" (was {one.before})" if one.before else "")


def _instructions(records: Sequence[LayerRow], ink: Ink) -> Iterator[str]:
    told = [row for row in records if row.made_by]
    if not told:
        return
    yield ink.paint(
        line(Piece("By which instruction each was made, as the image tells", Style.TITLE))
    )
    columns = (Column("layer", right=True), Column("instruction", wrap=True))
    yield from ink.table(columns, [[str(row.number), row.made_by or ""] for row in told], indent=2)
    yield ""


def _closing(summary: LayersSummary) -> list[str | Piece]:
    parts: list[str | Piece] = [
        Piece(count_words(summary.layers, "layer"), Style.TITLE),
        f", {size_words(summary.size)} as they lie, {size_words(summary.unpacked)} unpacked, of which"
        f" {size_words(summary.effective)} can be seen",
    ]
    if summary.foreign:
        words = f"{count_words(summary.foreign, 'path')} of packages altered or removed by another layer"
        parts += ("; ", Piece(words, Style.BAD))
    if summary.hidden:
        parts.append(f"; {count_words(summary.hidden, 'file')} hidden again")
    return parts
