"""A small cluster of Apache Spark on the loopback address: a master, two workers, and the server that a
thin client speaks to; of the published package `pyspark`, which lies in an environment of its own."""

import contextlib
import os
import re
import shutil
import signal
import socket
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator, Sequence
from pathlib import Path

PEERS = Path(__file__).parent.parent / ".peers"
"""The environment that `make peers` makes for programs of others."""
_JAVA = 17
_START = 120.0


def _home() -> Path:
    return next(PEERS.glob("lib/python3*/site-packages/pyspark"), PEERS / "pyspark")


def missing() -> str | None:
    """Why no cluster can be started here; None where one can."""
    java = shutil.which("java")
    if java is None:
        return f"there is no Java, and Java {_JAVA} is needed"
    told = subprocess.run([java, "-version"], capture_output=True, text=True, check=False).stderr
    version = re.search(r'version "(\d+)', told)
    if version is None or int(version[1]) < _JAVA:
        return f"Java {_JAVA} is needed"
    if not (_home() / "bin" / "spark-class").exists():
        return "the package of Spark is not here: make peers gets it"
    return None


@contextlib.contextmanager
def cluster(workers: int = 2, memory: str = "1g") -> Iterator[str]:
    """A cluster that is there while this lasts; the address for its clients. Raises RuntimeError."""
    why = missing()
    if why is not None:
        raise RuntimeError(why)
    master, board, served, *boards = _free_ports(3 + workers)
    with tempfile.TemporaryDirectory(prefix="filigree-cluster-") as folder:
        started: list[subprocess.Popen[bytes]] = []

        def start(name: str, program: str, arguments: Sequence[str]) -> None:
            log = open(os.path.join(folder, f"{name}.log"), "wb")  # noqa: SIM115
            command = [str(_home() / "bin" / program), *arguments]
            started.append(subprocess.Popen(
                command, stdout=log, stderr=subprocess.STDOUT, cwd=folder, start_new_session=True,
                env=_environment(folder),
            ))  # fmt: skip
            log.close()

        address = f"spark://127.0.0.1:{master}"
        deploy = "org.apache.spark.deploy"
        try:
            start("master", "spark-class", [
                f"{deploy}.master.Master", "--host", "127.0.0.1", "--port", str(master),
                "--webui-port", str(board),
            ])  # fmt: skip
            _wait_for(master, started)
            for number, port in enumerate(boards):
                start(f"worker-{number}", "spark-class", [
                    f"{deploy}.worker.Worker", "--host", "127.0.0.1", "--cores", "1", "--memory", memory,
                    "--webui-port", str(port), "--work-dir", os.path.join(folder, f"work-{number}"),
                    address,
                ])  # fmt: skip
            start("server", "spark-submit", [
                "--master", address, "--class", "org.apache.spark.sql.connect.service.SparkConnectServer",
                *_settings(served, memory), "spark-internal",
            ])  # fmt: skip
            _wait_for(served, started)
            yield f"sc://127.0.0.1:{served}"
        except RuntimeError as error:
            raise RuntimeError(f"{error}\n{_logs(folder)}") from error
        finally:
            for process in reversed(started):
                with contextlib.suppress(ProcessLookupError):
                    os.killpg(process.pid, signal.SIGKILL)
                process.wait()


def _settings(port: int, memory: str) -> Iterator[str]:
    for name, value in {
        "spark.connect.grpc.binding.address": "127.0.0.1",
        "spark.connect.grpc.binding.port": str(port),
        "spark.driver.host": "127.0.0.1", "spark.driver.bindAddress": "127.0.0.1",
        "spark.ui.enabled": "false", "spark.driver.memory": memory, "spark.executor.memory": memory,
        "spark.sql.shuffle.partitions": "4",
    }.items():  # fmt: skip
        yield from ("--conf", f"{name}={value}")


def _environment(folder: str) -> dict[str, str]:
    kept = {key: value for key, value in os.environ.items() if not key.startswith("SPARK_")}
    return kept | {
        "SPARK_HOME": str(_home()), "SPARK_LOCAL_IP": "127.0.0.1", "SPARK_NO_DAEMONIZE": "1",
        "SPARK_LOCAL_DIRS": folder, "SPARK_LOG_DIR": folder, "SPARK_DAEMON_MEMORY": "512m",
    }  # fmt: skip


def _free_ports(count: int) -> list[int]:
    held = [socket.create_server(("127.0.0.1", 0)) for _ in range(count)]
    ports = [int(one.getsockname()[1]) for one in held]
    for one in held:
        one.close()
    return ports


def _wait_for(port: int, started: Sequence[subprocess.Popen[bytes]]) -> None:
    end = time.monotonic() + _START
    while time.monotonic() < end:
        if any(one.poll() is not None for one in started):
            raise RuntimeError("a part of the cluster ended by itself")
        with contextlib.suppress(OSError), socket.create_connection(("127.0.0.1", port), 1):
            return
        time.sleep(0.2)
    raise RuntimeError("the cluster did not start in time")


def _logs(folder: str) -> str:
    return "\n".join(
        f"== {name}\n{Path(folder, name).read_text(errors='replace')[-3000:]}"
        for name in sorted(os.listdir(folder))
        if name.endswith(".log")
    )


if __name__ == "__main__":
    with cluster() as there:
        print(there, flush=True)
        with contextlib.suppress(KeyboardInterrupt):
            sys.stdin.read()
