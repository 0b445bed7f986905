"""A graph in the open formats of other programs: DOT, GraphML, and JSON."""

import re
import xml.etree.ElementTree as ET
from collections.abc import Iterator

from filigree.model.answer import Answer
from filigree.model.needs import Relation
from filigree.questions.commands.draw import DrawSummary, NodeRow, NodeStatus, Side
from filigree.views.plain import json_text
from filigree.views.text import escaped

_STYLES = {
    Relation.REQUIRES_FIRST: "bold", Relation.REQUIRES: "solid", Relation.RECOMMENDS: "dashed",
}  # fmt: skip
_NO_XML = re.compile("[^\t\n\r -\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")


def dot(answer: Answer[NodeRow, DrawSummary]) -> str:
    """The graph in the DOT language."""
    return "\n".join(_dot_lines(answer)) + "\n"


def _dot_lines(answer: Answer[NodeRow, DrawSummary]) -> Iterator[str]:
    yield "digraph needs {"
    yield "  rankdir=LR;"
    yield '  node [fontname="sans-serif"];'
    for row in answer.records:
        shape = {NodeStatus.UNMET: "octagon", NodeStatus.SEVERAL: "hexagon"}.get(
            row.status, "box" if row.chosen else "ellipse"
        )
        style = "dashed" if row.status in (NodeStatus.AVAILABLE, NodeStatus.ARCHIVE) else "solid"
        width = "2.5" if row.side is Side.SUBJECT else "1"
        label = row.node if row.version is None else f"{row.node}\n{row.version}"
        yield (
            f"  {_quoted(row.node)} [label={_quoted(label)}, shape={shape}, style={style}, "
            f"penwidth={width}];"
        )
    for row in answer.records:
        for tie in row.ties:
            style = _STYLES.get(tie.kind, "dotted")
            colour = ', color="red"' if tie.met is False else ""
            yield (
                f"  {_quoted(row.node)} -> {_quoted(tie.to)} [style={style}, "
                f"tooltip={_quoted(f'{tie.kind.value} {tie.requirement}')}{colour}];"
            )
    yield "}"


def _quoted(text: str) -> str:
    lines = [escaped(part).replace("\\", "\\\\").replace('"', '\\"') for part in text.split("\n")]
    return '"' + "\\n".join(lines) + '"'


_NODE_FIELDS = (
    ("version", "string"), ("architecture", "string"), ("side", "string"), ("depth", "int"),
    ("status", "string"), ("chosen", "boolean"), ("installed_size", "long"),
    ("repository", "string"), ("packages", "int"),
)  # fmt: skip
_TIE_FIELDS = (("kind", "string"), ("requirement", "string"), ("met", "boolean"))


def graphml(answer: Answer[NodeRow, DrawSummary]) -> bytes:
    """The graph as GraphML."""
    root = ET.Element("graphml", xmlns="http://graphml.graphdrawing.org/xmlns")
    for whose, fields in (("node", _NODE_FIELDS), ("edge", _TIE_FIELDS)):
        for name, form in fields:
            ET.SubElement(root, "key", {
                "id": name, "for": whose, "attr.name": name, "attr.type": form,
            })  # fmt: skip
    graph = ET.SubElement(root, "graph", id="needs", edgedefault="directed")
    for row in answer.records:
        node = ET.SubElement(graph, "node", id=_xml(row.node))
        for name, _ in _NODE_FIELDS:
            _data(node, name, getattr(row, name))
    for row in answer.records:
        for tie in row.ties:
            edge = ET.SubElement(graph, "edge", source=_xml(row.node), target=_xml(tie.to))
            for name, _ in _TIE_FIELDS:
                _data(edge, name, getattr(tie, name))
    ET.indent(root)
    text: bytes = ET.tostring(root, encoding="utf-8", xml_declaration=True)
    return text + b"\n"


def _data(above: ET.Element, name: str, value: object) -> None:
    if value is not None:
        text = str(value).lower() if isinstance(value, bool) else str(value)
        ET.SubElement(above, "data", key=name).text = _xml(text)


def _xml(text: str) -> str:
    """A text without what XML cannot hold."""
    return _NO_XML.sub("?", escaped(text))


def drawing(answer: Answer[NodeRow, DrawSummary], ending: str) -> bytes | None:
    """The graph as a file with this ending; None where no format has it."""
    match ending:
        case "png" | "svg":
            from filigree.views.pictures.figure import picture

            return picture(answer, ending)
        case "dot" | "gv":
            return dot(answer).encode("utf-8", "replace")
        case "graphml":
            return graphml(answer)
        case "json":
            return ("\n".join(json_text(answer)) + "\n").encode("utf-8", "replace")
    return None


ENDINGS = ("png", "svg", "dot", "graphml", "json")
