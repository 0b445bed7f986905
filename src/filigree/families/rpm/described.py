"""From a package header to a package, its needs, its files: the same for a record and an archive."""

import re
from collections.abc import Callable, Iterable, Iterator, Mapping
from itertools import chain, repeat
from typing import Any

from filigree.formats.relation_error import RelationError
from filigree.formats.rpm import tags
from filigree.formats.rpm.header import Header, HeaderError
from filigree.formats.rpm.relations import (
    BEFORE,
    FEATURES,
    FORMAT,
    MISSING_OK,
    comparison_of,
    condition_of,
    feature_of,
    written,
)
from filigree.model.answer import moment_of
from filigree.model.files import (
    Aspect,
)
from filigree.model.limits import why_too_long
from filigree.model.needs import Capability, Need, Relation
from filigree.model.package import Package, Script, State

KEY = "gpg-pubkey"
"""The name under which imported keys are on record: they are no software."""

ASPECTS = frozenset(Aspect) - {Aspect.RECORD}
_SCRIPTS = (
    ("pre-install", 1023), ("post-install", 1024), ("pre-remove", 1025), ("post-remove", 1026),
    ("pre-transaction", 1151), ("post-transaction", 1152), ("pre-untransaction", 5104),
    ("post-untransaction", 5105), ("verify", 1079),
)  # fmt: skip
_SEVERAL_SCRIPTS = (("trigger", 1065), ("file-trigger", 5066), ("transaction-trigger", 5076))
KIND_OF_FORM_OF_NEED = (
    ("requires", Relation.REQUIRES),
    ("recommends", Relation.RECOMMENDS),
    ("suggests", Relation.SUGGESTS),
    ("suggests of long ago", Relation.SUGGESTS),
    ("supplements", Relation.SUPPLEMENTS),
    ("enhances", Relation.ENHANCES),
    ("enhances of long ago", Relation.ENHANCES),
    ("conflicts", Relation.CONFLICTS),
    ("obsoletes", Relation.OBSOLETES),
)
_SOURCE_NAME = re.compile(r"(?P<name>.+)-(?P<version>[^-]+-[^-]+)\.(?:no)?src\.rpm")
_LONG = 2000


def name_of(header: Header) -> str:
    """The package's name; empty where the header has none."""
    return header.text(tags.NAME) or ""


def package_of(
    header: Header,
    state: State = State.INSTALLED,
    more: Callable[[str, str, str], Mapping[str, Any]] | None = None,
) -> Package:
    """The package that a header describes. Raises HeaderError where it names none.

    `more` tells what else is known of a name, version and architecture, as fields of the package.
    """
    name, version = header.text(tags.NAME), header.text(tags.VERSION)
    if not name or not version:
        raise HeaderError(f"a package without a {'version' if name else 'name'}", 0)
    size = header.number(tags.LONG_SIZE)
    source, source_version = _source(header.text(tags.SOURCE_PACKAGE))
    architecture = header.text(tags.ARCHITECTURE) or "none"
    if tags.SOURCE_PACKAGE not in header and tags.SOURCE_MARK in header:
        architecture = "src"
    full = full_version(header.number(tags.EPOCH), version, header.text(tags.RELEASE))
    too_long = why_too_long(name, full, architecture)
    if too_long is not None:
        raise HeaderError(too_long, 0)
    return Package(
        **(more(name, full, architecture) if more else {}),
        name=name,
        version=full,
        architecture=architecture,
        family="rpm",
        state=state,
        section=header.text(tags.GROUP),
        source=source,
        source_version=source_version,
        summary=header.text(tags.SUMMARY),
        description=header.text(tags.DESCRIPTION),
        homepage=header.text(tags.URL),
        license=header.text(tags.LICENSE),
        maintainer=header.text(tags.PACKAGER),
        vendor=header.text(tags.VENDOR),
        installed_size=header.number(tags.SIZE) if size is None else size,
        built_at=moment_of(header.number(tags.BUILD_TIME) or None),
        build_host=header.text(tags.BUILD_HOST),
        installed_at=moment_of(header.number(tags.INSTALL_TIME) or None),
    )


def full_version(epoch: int | None, version: str, release: str | None) -> str:
    """The parts of a version as they are written in one; an epoch of 0 is left out."""
    front = f"{epoch}:{version}" if epoch else version
    return f"{front}-{release}" if release else front


def _source(name: str | None) -> tuple[str | None, str | None]:
    match = _SOURCE_NAME.fullmatch(name or "")
    return (match["name"], match["version"]) if match else (name, None)


def source_name(name: str | None) -> str | None:
    """The name of the source package, out of the name of its archive."""
    return _source(name)[0]


# -- needs ----------------------------------------------------------------------------------


def relations(header: Header, which: str) -> Iterator[tuple[str, int, str]]:
    """Name, flags and version of each relation of one kind."""
    names, flags, versions = tags.RELATIONS[which]
    found = header.texts(names)
    if found:
        more = chain(header.numbers(flags), repeat(0)), chain(header.texts(versions), repeat(""))
        yield from zip(found, *more, strict=False)


Written = Callable[[str], Iterable[tuple[str, int, str]]]
"""Name, flags and version of each relation of one kind."""


def needs_of(told: Written) -> Iterator[Need | RelationError]:
    """Every need of a package, each once; a RelationError in the place of one that does not parse."""
    seen = set()
    for which, kind in KIND_OF_FORM_OF_NEED:
        for name, flags, version in told(which):
            try:
                need = _need(kind, name, flags, version)
            except RelationError as error:
                yield error
                continue
            # The same need is written once for each script that has it.
            if (need.kind, need.text) not in seen:
                seen.add((need.kind, need.text))
                yield need


def _need(kind: Relation, name: str, flags: int, version: str) -> Need:
    text = written(name, flags, version)
    condition = condition_of(name, flags, version)
    if kind is Relation.REQUIRES:
        feature = feature_of(name)
        if feature is not None and (flags & FORMAT or feature in FEATURES):
            granted = "a feature of the package format" if feature in FEATURES else None
            return Need(Relation.FORMAT, condition, text, granted)
        if flags & MISSING_OK:
            kind = Relation.RECOMMENDS
        elif flags & BEFORE:
            kind = Relation.REQUIRES_FIRST
    return Need(kind, condition, text)


def capabilities_of(told: Written, package: Package) -> tuple[Capability, ...]:
    """The names that a package answers to: its own, at its version, and those it provides."""
    found = {package.name: Capability(package.name, package.version)}
    for name, flags, version in told("provides"):
        comparison = comparison_of(flags)
        if comparison is None or not version:
            capability = Capability(name)
        else:
            capability = Capability(name, version, comparison)
        found[str(capability)] = capability
    own = str(found.pop(package.name))
    found.pop(own, None)
    return (Capability(package.name, package.version), *found.values())


# -- files ----------------------------------------------------------------------------------


# Flags of before there were capabilities say nothing of them.


# -- the rest -------------------------------------------------------------------------------


def scripts_of(header: Header) -> tuple[Script, ...]:
    """The scripts of a package, by when they run."""
    return tuple(
        Script(name, len(text.encode("utf-8", "surrogateescape")))
        for name, text in _every_script(header)
    )


def script_texts_of(header: Header) -> Iterator[str]:
    """What the scripts of a package say."""
    return (text for _, text in _every_script(header))


def _every_script(header: Header) -> Iterator[tuple[str, str]]:
    for name, tag in _SCRIPTS:
        text = header.text(tag)
        if text is not None:
            yield name, text
    for name, tag in _SEVERAL_SCRIPTS:
        yield from ((name, text) for text in header.texts(tag))


def fields_of(header: Header, signing: bool = False) -> Mapping[str, str]:
    """Every tag of a header, by its name, its values as text."""
    found = {}
    for tag in header:
        try:
            found[tags.tag_name(tag, signing)] = _told(header.value(tag))
        except HeaderError as error:
            found[tags.tag_name(tag, signing)] = f"damaged: {error}"
    return found


def _told(value: tuple[int, ...] | tuple[str, ...] | bytes | None) -> str:
    """A value as text; of a long one its start, and how long it is."""
    if value is None:
        return ""
    if isinstance(value, bytes):
        return value[:64].hex() + (f" … ({len(value)} bytes)" if len(value) > 64 else "")
    text = ", ".join(str(one) for one in value[:_LONG])
    if len(text) > _LONG or len(value) > _LONG:
        text = f"{text[:_LONG]} … ({len(value)} values)"
    return text
