"""A scheduler and workers of the distributed engine, as their own command lines start them."""

import socket
import subprocess
import sys
from collections.abc import Iterator, Mapping
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field
from pathlib import Path
from tempfile import TemporaryDirectory
from time import sleep

DASK = Path(sys.executable).with_name("dask")


@dataclass
class Machines:
    """What was started, and where the scheduler is."""

    folder: Path
    address: str = ""
    environment: Mapping[str, str] | None = None
    processes: list["subprocess.Popen[bytes]"] = field(default_factory=list)
    commands: list[tuple[str, ...]] = field(default_factory=list)

    def start(self, *words: str, environment: Mapping[str, str] | None = None) -> "subprocess.Popen[bytes]":
        """One of its commands."""
        process = subprocess.Popen(
            [DASK, *words, "--no-dashboard"],
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
            cwd=self.folder,
            env=environment or self.environment,
        )
        self.processes.append(process)
        self.commands.append(words)
        return process

    def again(self, number: int) -> None:
        """Start in its place what has ended."""
        self.processes[number].wait()
        self.start(*self.commands[number])
        self.processes[number] = self.processes.pop()
        self.commands.pop()

    def scheduler(self) -> None:
        """Start it, and wait until it can be spoken to."""
        port = self.address.rpartition(":")[2]
        protocol = self.address.partition(":")[0]
        self.start("scheduler", "--host", "127.0.0.1", "--port", port, "--protocol", protocol)
        while True:
            with suppress(OSError), socket.create_connection(("127.0.0.1", int(port)), timeout=1):
                return
            sleep(0.05)

    def worker(self, environment: Mapping[str, str] | None = None) -> "subprocess.Popen[bytes]":
        """One process with one thread; ended, it is gone."""
        words = (self.address, "--nthreads", "1", "--no-nanny", "--local-directory", str(self.folder))
        return self.start("worker", *words, environment=environment)


@contextmanager
def machines(
    workers: int, protocol: str = "tcp", environment: Mapping[str, str] | None = None
) -> Iterator[Machines]:
    """A scheduler on a free port, and workers that may still be on their way to it."""
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        address = f"{protocol}://127.0.0.1:{free.getsockname()[1]}"
    with TemporaryDirectory() as folder:
        found = Machines(Path(folder), address, environment=environment)
        try:
            found.scheduler()
            for _ in range(workers):
                found.worker()
            yield found
        finally:
            for process in found.processes:
                process.kill()
            for process in found.processes:
                process.wait()
