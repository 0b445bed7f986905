"""The engine of a cluster: Apache Spark, spoken to by its thin client (Spark Connect).

It is asked by the same text as the embedded one, of the same files: all machines of the cluster have to
see the store under the same path. Learnt by trial:

- Tables are never sent whole to all workers because their files are small: compressed texts are twenty
  times larger in memory. What is measured while it runs may be.
- A plan that is named again and again grows with each step of a fix-point: what is kept is computed then,
  and its plan forgotten.
- Values by their place (`?`) are given to the wrong ones where some stand within subqueries: each gets a
  name here.
- Sums and quotients may come back as decimals: they are made numbers.
"""

import contextlib
import re
import warnings
from collections.abc import Iterator, Sequence
from decimal import Decimal
from typing import Any

from filigree.fleet.form import VERSION, FleetTable
from filigree.fleet.identity import Value
from filigree.model.errors import BadQuestion

SCHEME = "sc://"
_CONNECT = 20.0
"""Seconds until a cluster that does not answer is given up."""
_RETRIES = 3
_GLOB = re.compile(r"[\\{}\[\]*?^]")
_SETTINGS = {
    "spark.sql.autoBroadcastJoinThreshold": "-1",
    "spark.sql.adaptive.autoBroadcastJoinThreshold": "16MB",
    "spark.sql.ansi.enabled": "true",
    "spark.sql.runSQLOnFiles": "false",
}


class SparkEngine:
    """A session of a cluster by the address of its server: `sc://host:15002`. Raises BadQuestion where
    nothing answers there, or the client is not installed."""

    doubt = "whoever runs that cluster could have made up the answer"

    def __init__(self, address: str) -> None:
        self.address = address
        self._sql = _loaded()
        # The cluster forgets a frame when nobody here has it any more, whatever is made of it there.
        self._kept: list[Any] = []
        with self._told():
            builder = self._sql.DefaultChannelBuilder(address)
            channel = builder.toChannel()
            try:
                self._sql.channel_ready_future(channel).result(timeout=_CONNECT)
            finally:
                channel.close()
            self._session = self._sql.SparkSession.builder.channelBuilder(builder).create()
            self._session.client.set_retry_policies([self._sql.DefaultPolicy(max_retries=_RETRIES)])
            for name, value in _SETTINGS.items():
                self._session.conf.set(name, value)

    def register(
        self, table: FleetTable, files: Sequence[str], form: int = VERSION  # noqa: ARG002
    ) -> None:  # fmt: skip
        """Make a table of files: a column that one of them does not have is null."""
        columns = ", ".join(
            f"`{one.name}` {'BIGINT' if one.number else 'STRING'}" for one in table.columns
        )
        with self._told():
            if files:
                # What a name stands for is a file, whatever signs of a glob are in it.
                paths = [_GLOB.sub(r"\\\g<0>", f"file://{path}") for path in files]
                frame = self._session.read.schema(columns).parquet(*paths)
            else:
                frame = self._session.createDataFrame([], columns)
            frame.createOrReplaceTempView(table.name)

    def keep(self, name: str, text: str, values: Sequence[Value] = ()) -> None:
        """Keep what a question answers."""
        with self._told():
            made = self._session.sql(*_named(text, values)).localCheckpoint(eager=True)
            # What comes back is of whichever session is the first of this process: it is of this one.
            frame = self._sql.DataFrame(made._plan, self._session)
            frame.createOrReplaceTempView(name)
        self._kept += [made, frame]

    def run(self, text: str, values: Sequence[Value] = ()) -> list[tuple[Any, ...]]:
        """The rows that a question answers."""
        with self._told():
            rows = self._session.sql(*_named(text, values)).collect()
        return [tuple(map(_plain, row)) for row in rows]

    def close(self) -> None:
        """Let go of it."""
        with contextlib.suppress(Exception), warnings.catch_warnings():  # it may be gone already
            warnings.simplefilter("ignore")
            self._kept.clear()
            self._session.stop()

    @contextlib.contextmanager
    def _told(self) -> Iterator[None]:
        try:
            with warnings.catch_warnings():
                warnings.simplefilter("ignore")
                yield
        except self._sql.FutureTimeoutError as error:
            raise BadQuestion(
                f"nothing answered within {_CONNECT:.0f} seconds", self.address,
                "start the server of the cluster that thin clients speak to",
            ) from error  # fmt: skip
        except (self._sql.PySparkException, self._sql.RpcError) as error:
            words = (str(error).strip().splitlines() or ["it cannot be answered"])[0]
            raise BadQuestion(words, self.address) from error


class _Client:
    """What of the client is used."""

    def __init__(self) -> None:
        from grpc import FutureTimeoutError, RpcError, channel_ready_future
        from pyspark.errors import PySparkException
        from pyspark.sql.connect.client import DefaultChannelBuilder
        from pyspark.sql.connect.client.retries import DefaultPolicy
        from pyspark.sql.connect.dataframe import DataFrame
        from pyspark.sql.connect.session import SparkSession

        self.FutureTimeoutError: type[Exception] = FutureTimeoutError
        self.RpcError: type[Exception] = RpcError
        self.channel_ready_future: Any = channel_ready_future
        self.PySparkException: type[Exception] = PySparkException
        self.DefaultChannelBuilder: Any = DefaultChannelBuilder
        self.DefaultPolicy: Any = DefaultPolicy
        self.SparkSession: Any = SparkSession
        self.DataFrame: Any = DataFrame


def _loaded() -> _Client:
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            return _Client()
    except ImportError as error:
        raise BadQuestion(
            "the client of a cluster is not installed", None, "install filigree[cluster]"
        ) from error


def _named(text: str, values: Sequence[Value]) -> tuple[str, dict[str, Value]]:
    """A question with a name for each value, in the place of `?`."""
    first, *parts = text.split("?")
    assert len(parts) == len(values)
    told = [f":v{number}{part}" for number, part in enumerate(parts)]
    return "".join([first, *told]), {f"v{number}": value for number, value in enumerate(values)}


def _plain(value: Any) -> Any:
    if isinstance(value, Decimal):
        return int(value) if value == value.to_integral_value() else float(value)
    return value
