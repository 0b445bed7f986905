"""Which streams of modules are followed: what was switched on, the defaults, and what those need."""

from collections.abc import Iterable, Iterator, Mapping, Sequence

from filigree.formats.rpm.modules import ModuleStream

_MARK = " needs "
_PLATFORM = "platform"
"""What every stream needs and no index offers: the distribution's own release."""


def needs_written(one: ModuleStream) -> Iterator[str]:
    """What a stream needs, as lines that an index can keep: a line for each way to have it."""
    for way in one.needs:
        words = " ".join(f"{module}:{','.join(streams)}" for module, streams in way.items())
        yield f"{one.module}:{one.stream}{_MARK}{words}"


def followed_streams(
    enabled: Mapping[str, str], told: Iterable[str]
) -> tuple[dict[str, str], dict[str, str]]:
    """The stream that is followed, by module, and what a followed stream lacks, by `module:stream`.

    `enabled` is what the system switched on, with an empty stream for what it switched off; `told` are
    the defaults, as `module:stream`, and the lines of `needs_written`. A stream that another one needs is
    followed where the system says nothing of its module, and one alone would do.
    """
    needs: dict[str, list[dict[str, list[str]]]] = {}
    followed = {module: stream for module, stream in enabled.items() if stream}
    for line in told:
        one, mark, words = line.partition(_MARK)
        module, _, stream = one.partition(":")
        if mark:
            needs.setdefault(one, []).append(dict(map(_read, words.split())))
        elif module not in enabled:
            followed.setdefault(module, stream)
    lacking: dict[str, str] = {}
    waiting = list(followed.items())
    while waiting:
        module, stream = waiting.pop()
        ways = needs.get(f"{module}:{stream}", [])
        lacks = [_lack(way, enabled, followed) for way in ways]
        if ways and all(lacks):
            lacking[f"{module}:{stream}"] = str(lacks[0])
            continue
        for way, lack in zip(ways, lacks, strict=True):
            if lack is None:
                more = [(m, s[0]) for m, s in way.items() if m not in followed and len(s) == 1]
                more = [(m, s) for m, s in more if m != _PLATFORM]
                followed.update(more)
                waiting += more
                break
    return followed, lacking


def _read(word: str) -> tuple[str, list[str]]:
    module, _, streams = word.partition(":")
    return module, [stream for stream in streams.split(",") if stream]


def _lack(
    way: Mapping[str, Sequence[str]], enabled: Mapping[str, str], followed: Mapping[str, str]
) -> str | None:
    """What of a way to have what is needed cannot be; None where nothing speaks against it."""
    for module, streams in way.items():
        if module == _PLATFORM:
            continue
        here = followed.get(module, "" if module in enabled else None)
        if here == "" or (here is not None and streams and here not in streams):
            return f"{module}:{' or '.join(streams)}" if streams else module
    return None
