"""A running Dask cluster: its workers do what worker processes do on one machine."""

from __future__ import annotations

import json
import logging
import os
import platform
import secrets
import tomllib
from collections.abc import Iterator, Mapping, Sequence
from concurrent.futures import CancelledError, Future
from dataclasses import dataclass, field
from pathlib import Path
from types import TracebackType
from typing import Any, Self

import pyarrow as pa

from lomrix.core.errors import FileError, LomrixError, UsageError
from lomrix.files.file_source import require_file
from lomrix.job.memory import OutOfMemoryError
from lomrix.job.workers import Workers

SECONDS = 10
# How often a part is tried again if its worker is lost.
RETRIES = 2
# What a file names for an encrypted connection, and what Dask calls it.
CERTIFICATES = {"ca": "tls_ca_file", "cert": "tls_client_cert", "key": "tls_client_key"}
# Packages that must be the same on all machines.
PACKAGES = ("numpy", "pyarrow")


@dataclass
class Cluster(Workers):
    """The workers of a cluster; `address` is that of its scheduler, or a file that names it; `tls` names the file with
    its certificates, if any.
    """

    address: str = ""
    tls: str = ""
    memory: int = 0  # bytes that a thread of a worker may use; 0 if that is not limited
    threads: int = field(default=1, init=False)  # that a worker may use
    client: Any = field(init=False)

    def __enter__(self) -> Self:
        try:
            from distributed import Client
        except ImportError as error:
            todo = "Install it on every machine: pip install 'lomrix[cluster]'"
            raise UsageError("‹cluster› needs the package distributed.", todo=todo) from error
        logging.getLogger("distributed").setLevel(logging.CRITICAL)  # errors are reported once, by us
        address = self.address if "://" in self.address else read_address(Path(self.address))
        security = {"security": read_certificates(Path(self.tls))} if self.tls else {}
        try:
            self.client = Client(address, timeout=SECONDS, set_as_default=False, **security)
        except (OSError, ValueError, TypeError) as error:
            raise FileError(
                f"The cluster at {self.address} cannot be reached.",
                where=str(error).partition("\n")[0],
                todo="Check that its scheduler runs, and that this machine may connect to it.",
            ) from error
        try:
            self._count_workers()
            self._require_same_versions()
            self._require_shared_folder()
            self._ask(pa.set_cpu_count, self.threads)
            self.executor = self.client.get_executor(retries=RETRIES, pure=False)
        except BaseException:
            self.client.close()
            raise
        return self

    def _count_workers(self) -> None:
        """Find how many parts can be worked on at once, and how large they may be."""
        workers = self.client.scheduler_info(n_workers=-1)["workers"].values()
        if not workers:
            raise FileError(f"The cluster at {self.address} has no workers.", todo="Start some first: dask worker")
        self.count = sum(worker["nthreads"] for worker in workers)
        self.threads = min(worker["nthreads"] for worker in workers)
        self.memory = min((worker["memory_limit"] or 0) // worker["nthreads"] for worker in workers)

    def _ask(self, function: Any, *values: object) -> dict[str, Any]:
        """Return what a function gives on each worker, by its address; an error where it raises one."""
        answers: dict[str, Any] = self.client.run(function, *values, on_error="return")
        return answers

    def _require_same_versions(self) -> None:
        own = describe_worker()
        for address, answer in sorted(self._ask(describe_worker).items()):
            if not isinstance(answer, Mapping):
                raise FileError(
                    f"The worker {address} does not have Lomrix.", where=f"{type(answer).__name__}: {answer}",
                    todo=f"Install the same version everywhere: pip install 'lomrix[cluster]=={own['lomrix']}'",
                )  # fmt: skip
            other = [f"{name} {answer.get(name)}, here {version}" for name, version in own.items()
                     if answer.get(name) != version]  # fmt: skip
            if other:
                raise FileError(
                    f"The worker {address} has other versions.", where="; ".join(other),
                    todo="Install the same versions on every machine.",
                )  # fmt: skip

    def _require_shared_folder(self) -> None:
        """Stop unless each worker reads and writes what is in the scratch folder."""
        for address, answer in self._list_blind(self.scratch.folder):
            raise FileError(
                f"The worker {address} does not see the scratch folder {self.scratch.folder.parent}.",
                where="" if isinstance(answer, str) else f"{type(answer).__name__}: {answer}",
                todo="Use ‹scratch=FOLDER› on storage that all machines mount at the same path.",
            )

    def _list_blind(self, folder: Path) -> Iterator[tuple[str, object]]:
        """Yield the workers that do not read and write what is in a folder, with their answers."""
        token = secrets.token_hex(8)
        path = folder.absolute() / f".lomrix-{token}"
        path.write_text(token, encoding="ascii")
        try:
            for address, answer in sorted(self._ask(exchange_token, str(path), token).items()):
                try:
                    is_shared = isinstance(answer, str) and Path(answer).read_text(encoding="ascii") == token
                except OSError:
                    is_shared = False
                if not is_shared:
                    yield address, answer
        finally:
            for token_file in folder.glob(f"{path.name}*"):
                token_file.unlink(missing_ok=True)

    def find_unseen(self, files: Sequence[Path], folders: Sequence[Path]) -> Path | None:
        """Return the first file or folder that a worker cannot use as this process does; None if there is none."""
        for folder in folders:
            if list(self._list_blind(folder)):
                return folder
        paths = [str(file.absolute()) for file in files]
        own = describe_files(paths)
        for answer in self._ask(describe_files, paths).values():
            if answer != own:
                pairs = zip(files, answer if isinstance(answer, list) else [None] * len(own), own, strict=True)
                return next(file for file, there, here in pairs if there != here)
        return None

    def receive_result(self, sent: Path, result: Future[tuple[bytes, Path]], *, keeps: bool) -> Any:
        """Return what a worker sent.

        Raises FileError if the cluster does not work any more, OutOfMemoryError if a part ended several workers.
        """
        from distributed import KilledWorker

        try:
            return super().receive_result(sent, result, keeps=keeps)
        except KilledWorker as error:
            raise OutOfMemoryError(
                "A part ended several workers, probably since their memory ran out. Nothing was written.",
                todo="Use less ‹memory› for each part, or workers with more.",
            ) from error
        except LomrixError:
            raise
        except (CancelledError, OSError) as error:
            raise FileError(
                f"The cluster at {self.address} stopped working. Nothing was written.",
                where=str(error).partition("\n")[0],
                todo="Check its scheduler and workers, then run the command again.",
            ) from error

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.client.close(timeout=SECONDS)  # also drops what is not finished


def read_address(path: Path) -> str:
    """Return the address in the file that a scheduler writes.

    Raises FileError if there is none.
    """
    require_file(path)
    try:
        return str(json.loads(path.read_bytes())["address"])
    except (ValueError, KeyError, TypeError) as error:
        todo = "Use tcp://HOST:8786, or the file that the scheduler writes: dask scheduler --scheduler-file FILE"
        raise FileError(f"{path} does not name a scheduler.", todo=todo) from error


def read_certificates(path: Path) -> Any:
    """Read the file that names the certificates of a cluster; their paths are relative to it.

    Raises FileError if one of them is not named, or not there.
    """
    from distributed.security import Security

    require_file(path)
    try:
        named = tomllib.loads(path.read_bytes().decode("utf-8"))
        files = {key: path.parent / named[key] for key in CERTIFICATES}
    except (ValueError, KeyError, TypeError) as error:
        todo = 'It has three lines, such as ca = "ca.pem", cert = "cert.pem" and key = "key.pem".'
        raise FileError(f"{path} does not name the certificates of a cluster.", where=str(error), todo=todo) from error
    for file in files.values():
        require_file(file)
    return Security(require_encryption=True, **{CERTIFICATES[key]: str(file) for key, file in files.items()})


def describe_worker() -> dict[str, str]:
    """Return the versions that decide what a step gives."""
    from importlib.metadata import version

    from lomrix import __version__

    return {
        "lomrix": __version__, "Python": platform.python_version(),
        **{package: version(package) for package in PACKAGES},
    }  # fmt: skip


def describe_files(paths: Sequence[str]) -> list[tuple[int, int] | None]:
    """Return the bytes of each file and when it was changed; None where it cannot be read."""
    return [
        (status.st_size, status.st_mtime_ns) if os.access(path, os.R_OK) and (status := Path(path).stat()) else None
        for path in paths
    ]


def exchange_token(path: str, token: str) -> str:
    """Read a token from a file, and return another file with the same token."""
    if Path(path).read_text(encoding="ascii") != token:
        raise FileNotFoundError("the file of this name is another one")
    answer = Path(f"{path}-{secrets.token_hex(4)}")
    answer.write_text(token, encoding="ascii")
    return str(answer)
