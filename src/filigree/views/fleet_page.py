"""The page of a store's tables (`docs/fleet.md`): of the declarations of the form."""

from collections.abc import Iterator

from filigree.fleet.form import TABLES, VERSION

_HEAD = f"""# A fleet: many hosts, asked as one

`fleet gather STORE SNAPSHOT…` takes snapshots (and, with `--root`, roots as they are now) into a store;
`fleet QUESTION STORE` asks of all of them. It takes the extra `fleet` (`pip install 'filigree[fleet]'`).

## The gate

- With `--hosts FILE`, your own list of hosts and keys, only what a host's own key has signed is taken in:

  ```toml
  [[host]]
  name = "heron"
  keys = ["keys/heron.asc"]    # from where the list is
  ```

  A snapshot that claims a host's name and is signed by another's key, by a key that is not known, or by
  nobody, is refused, and so is one that is as old as what is there of that host, or older: it may be a
  replay. What is refused is told, counts as a gap of the fleet (`fleet gaps`), and costs nothing else.
- Without a list all are taken in, and every answer says that nobody vouches for them.
- Identities are made of contents, here: nothing that a snapshot says of itself makes two things one.
- What a host is called is its label, or else what the snapshot says that the machine was called.

## The store

A folder of your own that nobody else may write to; or an object store by its address (`s3://…`, with the
extra `objects`): copies are kept in your cache, under their digests. Who may write to objects only their
owner knows: every answer out of one says on whose word it rests.

`lists/NUMBER.json` names the files that count, by table, month, rows and SHA-256; the highest number
counts. Files and lists never change. A writer puts its
files down first (written beside, then renamed), and then makes the next list, which can be made but once:
who comes second reads the first one's list, and begins again with what is known by then. So a writer may
be ended at any moment, and two may gather at once.

`fleet tidy STORE` checks every digest, drops what `--keep-days` and `--keep-monthly` do not keep (the
last
snapshot of a host stays in any case) together with what nothing else needs, and makes one file of the
files of each table and month; gathering does the last by itself where there are many. A file that is gone
or not what its digest says is bad news, and nothing is dropped then. What no list names is swept away
when it is a day old.

## The engines

The tables are asked by DuckDB, which is embedded: it reads the files of the store and nothing else, in
bounded memory. Where that is outgrown, `--engine sc://HOST:15002` has the same text asked by a cluster of
Apache Spark, through its thin client (extra `cluster`). All machines of the cluster have to see the store
under the same path; of an object store that is the copies in your cache. What the connection needs
besides (a token, TLS) stands in the address, as Spark Connect has it. An answer of a cluster says on
whose word it is, and `fleet ask` goes to the embedded engine alone: what is typed there could make a
cluster run anything.

## A host as a root

`compare STORE#heron@2026-11-01 STORE#heron` holds a host against itself as it was, another host, or any
other root, for what the tables hold: packages (also those whose record tells something else under the
same version, with the files), what is not as it came, keys and repositories. That tables hold no other
file is a gap of every such answer. `report OUT --root STORE#heron` hands it over: the page (findings,
files, packages, what is behind), inventories, SARIF and mtree. What lies at a path of that very name is
meant first.

How it grows, and what a million hosts would take: [measured, and on paper](fleet-growth.md).

This is form {VERSION}. A store of an earlier one is asked as it is, and what it does not have is a gap of
the answer; gathering into it, or tidying it, brings it up first: in one step, as everything is written
here. A store of a newer form is refused. Since form 2: `behind`.

## The tables

`fleet ask STORE 'SELECT …'` asks them: one question, reading alone, of these tables and nothing else, in
bounded time (60 s), memory (900 MB) and rows (100,000). All columns are texts or 64-bit numbers. In texts
a byte that is not UTF-8 stands as `\\xNN`, a control character as `\\uNNNN`, and a backslash as two.
Times
are seconds since 1970.

Rows that many hosts have in common stand once: a build's under its identity, and everything else under
the identity of a *part*, which a row of `snapshots` names. So the files of nobody's at a host are

```sql
SELECT d.path FROM snapshots s JOIN deviations d ON d.part = s.deviations
WHERE s.host = 'heron' AND d.verdict = 'stray'
```
"""


def fleet_page() -> str:
    """The page in Markdown."""
    return "\n".join([*_lines(), ""])


def _lines() -> Iterator[str]:
    yield _HEAD
    for table in TABLES:
        yield f"### `{table.name}`\n"
        order = ", ".join(f"`{one}`" for one in table.order)
        yield f"{table.means[0].upper()}{table.means[1:]}. Sorted by {order}.\n"
        yield "| column | holds |"
        yield "| --- | --- |"
        yield from (
            f"| `{one.name}`{' (number)' if one.number else ''} | {one.means} |"
            for one in table.columns
        )
        yield ""


if __name__ == "__main__":
    import sys

    sys.stdout.write(fleet_page())
