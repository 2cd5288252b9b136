"""A Dask cluster of two workers: the same bytes, and one plain error for whatever goes wrong."""

from __future__ import annotations

import contextlib
import os
import signal
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Iterator, Sequence
from pathlib import Path
from unittest import mock

import pytest

import lomrix as package
from lomrix.core.errors import FileError
from lomrix.files import delimited
from lomrix.files.scratch import Scratch
from lomrix.job import budget, cluster
from lomrix.job.cluster import Cluster
from tests.job.test_in_parts import WORK, study  # noqa: F401  (a fixture)
from tests.tables import lomrix


def begin(*words: str, host: Sequence[str] = ()) -> subprocess.Popen[bytes]:
    command = [*host, sys.executable, "-m", "distributed.cli." + words[0], *words[1:], "--no-dashboard"]
    return subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, start_new_session=True)


@pytest.fixture(scope="module")
def address() -> Iterator[str]:
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    found = f"tcp://127.0.0.1:{port}"
    worker = ("dask_worker", found, "--nthreads", "1", "--memory-limit", "1GB")
    processes = [
        begin("dask_scheduler", "--host", "127.0.0.1", "--port", str(port)),
        begin(*worker, "--no-nanny"), begin(*worker, "--no-nanny"),
    ]  # fmt: skip
    try:
        from distributed import Client

        with Client(found, timeout=60, set_as_default=False) as client:
            client.wait_for_workers(2, timeout=60)
        yield found
    finally:
        for process in processes:
            process.kill()
            process.wait()


@pytest.fixture(autouse=True)
def small_parts(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(budget, "LEAST", 1000)
    monkeypatch.setattr(delimited, "PIECE", 1 << 15)


@pytest.mark.parametrize(
    "work", ["subset", "sort", "recode", "derive in cases", "aggregate", "merge", "export", "to-wide"]
)
def test_a_cluster_gives_the_same_bytes(study: Path, tmp_path: Path, address: str, work: str) -> None:  # noqa: F811
    word, to = work.split()[0].replace("sort", "subset"), "--to" if work == "export" else "--out"
    made = []
    for options in ([], ["--cluster", address, "--scratch", str(tmp_path)]):
        source = "plain.csv" if work in ("subset", "derive in cases", "merge") else "device.csv"
        out = "cluster/" if work == "derive in cases" else "cluster.parquet"
        output, _ = lomrix(word, source, *WORK[work], to, out, "--overwrite", *options, cwd=study)
        (file,) = study.glob("cluster/*.parquet" if out[-1] == "/" else out)
        made.append(file.read_bytes())
    assert f"parts by 2 workers of {address}." in output
    assert made[0] == made[1]
    assert not list(tmp_path.iterdir())


def test_what_is_wrong_with_the_data_is_said_as_on_one_machine(study: Path, address: str) -> None:  # noqa: F811
    words = ["merge", "device.csv", "people.csv", "--key", "crew", "--expect", "one-to-one"]
    errors = {lomrix(*words, *options, cwd=study, status=1)[1] for options in ([], ["--cluster", address])}
    assert len(errors) == 1
    output, _ = lomrix("derive", "people.csv", "r = rank(vessel)", "--cluster", address, cwd=study)
    assert "there is only one part, so --cluster had no effect" in output
    output, _ = lomrix("deidentify", "device.csv", *WORK["deidentify"], "--cluster", address, cwd=study)
    assert "--cluster had no effect: the secret stays on this machine." in output


def end_once(marker: str) -> str:
    """End the worker that is the first to come here; what it began to write must not be taken."""
    if not os.path.exists(marker):  # noqa: PTH110
        Path(marker).touch()
        os.kill(os.getpid(), signal.SIGKILL)
    return "done"


def test_a_worker_that_is_lost_costs_time_only(tmp_path: Path, address: str) -> None:
    replacement = begin("dask_worker", address, "--nthreads", "1", "--no-nanny")
    try:
        with Cluster(0, Scratch.make(str(tmp_path)), address) as workers:
            assert list(workers.run(end_once, [(str(tmp_path / "marker"),)] * 4)) == ["done"] * 4
    finally:
        replacement.kill()
        replacement.wait()


def test_workers_that_would_give_something_else_are_refused(
    tmp_path: Path, address: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    scratch = Scratch.make(str(tmp_path))
    with monkeypatch.context() as patched:
        patched.setattr(package, "__version__", "99.0")
        with pytest.raises(FileError, match="has other versions") as caught, Cluster(0, scratch, address):
            pass
        assert caught.value.where == f"lomrix {package_version()}, here 99.0"
    monkeypatch.setattr(cluster, "exchange_token", os.listdir)  # it has another parameter, and no such folder
    with pytest.raises(FileError, match="does not see the scratch folder"), Cluster(0, scratch, address):
        pass


def package_version() -> str:
    return subprocess.run(
        [sys.executable, "-c", "import lomrix; print(lomrix.__version__)"], capture_output=True, text=True, check=True
    ).stdout.strip()


def test_a_cluster_that_is_not_there_is_one_plain_error(study: Path, monkeypatch: pytest.MonkeyPatch) -> None:  # noqa: F811
    monkeypatch.setattr(cluster, "SECONDS", 1)
    for words, text in (
        ("tcp://127.0.0.1:9", "The cluster at tcp://127.0.0.1:9 cannot be reached."),
        ("nowhere.json", "The file nowhere.json does not exist."),
        ("people.csv", "people.csv does not name a scheduler."),
    ):
        _, error = lomrix("derive", "people.csv", "x = vessel + 1", "--cluster", words, cwd=study, status=3)
        assert error.splitlines()[0] == f"error  {text}"
    monkeypatch.setitem(sys.modules, "distributed", None)
    _, error = lomrix("derive", "people.csv", "x = vessel + 1", "--cluster", "tcp://a:1", cwd=study, status=2)
    assert error.splitlines()[1] == "next   Install it on every machine: pip install 'lomrix[cluster]'"


@pytest.fixture
def other_host() -> Iterator[list[str]]:
    """What runs a command on a host with a network of its own, which sees this one as 10.213.77.1."""
    name, here, there = (f"lx{os.getpid()}{end}" for end in ("", "a", "b"))
    inside = f"ip netns exec {name}"
    try:
        for command in (
            f"ip netns add {name}", f"ip link add {here} type veth peer name {there} netns {name}",
            f"ip addr add 10.213.77.1/24 dev {here}", f"ip link set {here} up",
            f"{inside} ip addr add 10.213.77.2/24 dev {there}", f"{inside} ip link set {there} up",
        ):  # fmt: skip
            if subprocess.run(command.split(), capture_output=True, check=False).returncode:
                pytest.skip("this machine lets nobody make a network")
        yield inside.split()
    finally:
        subprocess.run(["ip", "netns", "del", name], capture_output=True, check=False)


def test_two_hosts_share_a_folder_or_are_refused(study: Path, tmp_path: Path, other_host: list[str]) -> None:  # noqa: F811
    file, shared = str(tmp_path / "scheduler.json"), tmp_path / "scratch"
    shared.mkdir()
    alone = ["unshare", "--mount", "sh", "-c", 'mount -t tmpfs none "$0" && exec "$@"', str(shared)]
    worker = ("dask_worker", "--scheduler-file", file, "--nthreads", "1", "--no-nanny")
    made: list[bytes] = []
    scheduler = begin("dask_scheduler", "--host", "10.213.77.1", "--port", "0", "--scheduler-file", file)
    words = ["derive", "plain.csv", *WORK["derive in cases"], "--out", "hosts.csv", "--overwrite"]
    cluster_words = ["--cluster", file, "--scratch", str(shared)]
    without_files = [word.replace(str(shared), str(study)) for word in alone]
    try:
        for host in (other_host, [*other_host, *without_files], [*other_host, *alone]):
            process = begin(*worker, host=host)
            try:
                for _ in range(100):
                    output, error = lomrix(*words, *cluster_words, cwd=study, status=None)
                    if output or "does not see" in error:
                        break
                    time.sleep(0.2)
            finally:
                process.kill()
                process.wait()
            if alone[-1] == host[-1]:
                assert f"does not see the scratch folder {shared}." in error
                continue
            assert "parts by 1 worker of" in output
            assert ("so files were read and written on this machine" in output) == (host != other_host)
            made.append((study / "hosts.csv").read_bytes())
        lomrix(*words, cwd=study)
        assert made == [(study / "hosts.csv").read_bytes()] * 2
    finally:
        scheduler.kill()
        scheduler.wait()


def test_the_steps_of_a_plan_share_a_cluster(study: Path, address: str) -> None:  # noqa: F811
    step = '[[steps]]\nname = "s{0}"\ndo = "derive"\nsource = "device.csv"\n'
    step += 'expressions = "x = pulse + {0}"\nout = "s{0}.csv"'
    (study / "plan.toml").write_text("\n".join([f'cluster = "{address}"', step.format(1), step.format(2)]))
    with mock.patch.object(Cluster, "__enter__", autospec=True, side_effect=Cluster.__enter__) as entered:
        lomrix("run", "plan.toml", cwd=study)
    assert entered.call_count == 2
    for number in (1, 2):
        lomrix("derive", "device.csv", f"x = pulse + {number}", "--out", "alone.csv", "--overwrite", cwd=study)
        assert (study / "alone.csv").read_bytes() == (study / f"s{number}.csv").read_bytes()


def make_certificate(folder: Path) -> None:
    """A certificate that signs itself, and the file that names it."""
    command = ["openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", "2", "-subj", "/CN=127.0.0.1"]
    command += ["-keyout", str(folder / "key.pem"), "-out", str(folder / "cert.pem")]
    subprocess.run(command, check=True, capture_output=True)
    (folder / "tls.toml").write_text('ca = "cert.pem"\ncert = "cert.pem"\nkey = "key.pem"\n')


def test_an_encrypted_cluster_that_loses_its_scheduler(study: Path, tmp_path: Path) -> None:  # noqa: F811
    make_certificate(tmp_path)
    flags = [f"--tls-{name}" for name in ("ca-file", "cert", "key")]
    secure = [word for pair in zip(flags, ("cert.pem", "cert.pem", "key.pem"), strict=True) for word in pair]
    secure = [str(tmp_path / word) if word.endswith(".pem") else word for word in secure]
    file, tls = str(tmp_path / "scheduler.json"), str(tmp_path / "tls.toml")
    scheduler = begin(
        "dask_scheduler", "--protocol", "tls", "--host", "127.0.0.1", "--port", "0", "--scheduler-file", file, *secure
    )
    worker = begin("dask_worker", "--scheduler-file", file, "--nthreads", "1", "--no-nanny", *secure)

    def connect() -> Cluster:
        return Cluster(0, Scratch.make(str(tmp_path)), file, tls)

    try:
        for _ in range(100):
            with contextlib.suppress(FileError), connect():
                break
            time.sleep(0.5)
        words = ["derive", "device.csv", "x = pulse + 1", "--cluster", file, "--scratch", str(tmp_path)]
        assert "parts by 1 worker of" in lomrix(*words, "--cluster-tls", tls, cwd=study)[0]
        assert "cannot be reached" in lomrix(*words, cwd=study, status=3)[1]
        threading.Timer(1, scheduler.kill).start()
        with pytest.raises(FileError, match="stopped working"), connect() as workers:
            list(workers.run(time.sleep, [(60,)]))
    finally:
        for process in (scheduler, worker):
            process.kill()
            process.wait()


@pytest.mark.parametrize(
    ("content", "what"),
    [
        (None, "does not exist"),
        ("ca = 1", "does not name the certificates"),
        ('ca = "a"\ncert = "b"\nkey = "c"', "does not exist"),
    ],
)
def test_certificates_that_are_not_there_are_named(tmp_path: Path, content: str | None, what: str) -> None:
    if content is not None:
        (tmp_path / "tls.toml").write_text(content)
    with pytest.raises(FileError, match=what):
        cluster.read_certificates(tmp_path / "tls.toml")
