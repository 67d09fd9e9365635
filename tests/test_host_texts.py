"""What is run on a host, by itself, on files no editor made tidy: reader and writer count alike, names are names and
no patterns, last lines without an end count, and a program that fails leaves everything as it was."""

from __future__ import annotations

import hashlib
import os
import re
import subprocess
from importlib.resources import files as resources
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from yardbolt.adapters.hosts import library, texts
from yardbolt.core.formats.decode import DECODERS
from yardbolt.core.formats.library import expanded, known
from yardbolt.core.talk.conversation import Replies
from yardbolt.core.talk.host.script import whole

TEXTS = {**texts(Path(str(resources("yardbolt") / "data" / "hosts"))), **known()}
SHELLS = (["dash"], ["busybox", "ash"], ["bash", "--posix"])
FEW = settings(max_examples=int(os.environ.get("N", "40")), deadline=None, suppress_health_check=list(HealthCheck))
LINES = st.sampled_from([
    "17 * * * * root run-parts /etc/cron.hourly", "@reboot root /opt/x --a=b", "  # an indented remark", "# remark", "", "   ", "\t",
    "PATH=/usr/bin", " MAILTO = a@b", "*/5 * * * * svc FOO=1 /opt/a", "#yardbolt# 1 2 3 4 5 root /gone", "#0 1 * * * root off",
    "0 4 * * * j.doe /bin/y 'q \" x'", "5 5 * * * root /bin/z\r", "x=y", "0 0 1 1 * root /a\\ b",
])  # fmt: skip


def sh(text: str, folder: Path, shell: list[str] | None = None, **given_: str) -> subprocess.CompletedProcess[str]:
    """Run a text as it would be sent, with its own folder of the host moved here."""
    moved = text
    for place in ("/var/lib/yardbolt", "/etc/passwd", "/etc/hosts", "/etc/hostname"):
        moved = moved.replace(place, str(folder / place.rsplit("/", 1)[1]))
    script = "".join(str(part) for part in whole(moved, {name: (value,) for name, value in given_.items()}))
    return subprocess.run([*(shell or SHELLS[0]), "-s"], input=script, capture_output=True, text=True, check=False)


def jobs_of(table: Path, folder: Path, shell: list[str]) -> dict[str, tuple[str, ...]]:
    """The jobs of a table as the section reads them and the decoder numbers them."""
    read = f'{expanded(TEXTS, "lib/tag")}{expanded(TEXTS, "lib/jobs")}jobs_only "$x" | tag "line $x"\n'
    told = sh(read, folder, shell, x=str(table)).stdout
    found: dict[str, tuple[str, ...]] = {}
    for path, value in DECODERS["linux-files"].decode(Replies(told), "").facts:
        if path[0] == "jobs" and len(path) == 3:
            found[path[1]] = (*found.get(path[1], ()), f"{path[2]} {value}")
    return found


@FEW
@given(st.lists(LINES, min_size=1, max_size=9), st.booleans(), st.integers(0, 8), st.sampled_from(SHELLS))
def test_the_job_that_was_read_is_the_one_that_is_taken_out(
    tmp_path_factory: pytest.TempPathFactory, lines: list[str], ends: bool, which: int, shell: list[str]
) -> None:
    """Remarks, blank lines, settings, no last line end, line ends of another system: that one job goes, the others
    stay under the names they had."""
    folder = tmp_path_factory.mktemp("jobs")
    table = folder / "table"
    table.write_bytes(("\n".join(lines) + ("\n" if ends else "")).encode())
    before = jobs_of(table, folder, shell)
    if not before:
        return
    chosen = sorted(before)[which % len(before)]
    done = sh(library().programs["remove-job"].text, folder, shell, name=chosen)
    assert done.returncode == 0, done.stderr
    after = jobs_of(table, folder, shell) if table.exists() else {}
    assert after == {name: told for name, told in before.items() if name != chosen}, (lines, chosen)


NAMES = ("j.doe", "j-doe", "jxdoe", "doe", "a", "root", "j")


@FEW
@given(
    st.sampled_from(NAMES),
    st.lists(st.sampled_from(NAMES), unique=True),
    st.booleans(),
    st.integers(2, 7),
    st.sampled_from(SHELLS),
)
def test_a_name_is_a_name_and_no_pattern(
    tmp_path_factory: pytest.TempPathFactory, name: str, there: list[str], ends: bool, number: int, shell: list[str]
) -> None:
    """Found, read, changed and taken out by the whole first field alone, in the last line too."""
    folder = tmp_path_factory.mktemp("names")
    rows = [f"{one}:x:{1000 + n}:100:who \\ $HOME `id` *:/home/{one}:/bin/sh" for n, one in enumerate(there)]
    (folder / "passwd").write_text("\n".join(rows) + ("\n" if ends and rows else ""))
    asked = (
        expanded(TEXTS, "lib/fields")
        + 'there "$name" && echo yes || echo no\nfield "$name" "$number" /etc/passwd\necho --\n'
        + 'with_field "$name" "$number" "new value" /etc/passwd\necho --\nwithout "$name" /etc/passwd\n'
    )
    got = sh(asked, folder, shell, name=name, number=str(number)).stdout.split("--\n")
    mine = next((row.split(":") for row in rows if row.split(":")[0] == name), None)
    assert got[0].splitlines() == (["yes", mine[number - 1]] if mine else ["no"])
    new = [":".join("new value" if n == number - 1 else f for n, f in enumerate(mine)) if mine and row.split(":")[0] == name else row for row in rows]  # fmt: skip
    assert got[1].splitlines() == new and got[2].splitlines() == [row for row in rows if row.split(":")[0] != name]


@pytest.mark.parametrize("shell", SHELLS)
def test_the_owners_key_stays_where_the_last_line_has_no_end(tmp_path: Path, shell: list[str]) -> None:
    """Of three keys one is the owner's, and last: it stays, the others go, and what the job holds besides is added
    once."""
    public = []
    for number in range(4):
        subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(tmp_path / f"k{number}")], check=True)
        public.append((tmp_path / f"k{number}.pub").read_text().strip())
    prints = [
        subprocess.run(["ssh-keygen", "-lf", f"{tmp_path}/k{n}.pub"], capture_output=True, text=True, check=True).stdout.split()[1]
        for n in range(4)
    ]  # fmt: skip
    home = tmp_path / "home"
    (home / ".ssh").mkdir(parents=True)
    keys = home / ".ssh" / "authorized_keys"
    keys.write_text(f'# remark\n{public[0]}\nenvironment="A={public[3].split()[1]}" {public[1]}\n{public[2]}')
    (tmp_path / "passwd").write_text(
        f"j-doe:x:{os.getuid()}:0::{tmp_path}/other:/bin/sh\nj.doe:x:{os.getuid()}:0::{home}:/bin/sh"
    )
    done = sh(
        library().programs["ssh-keys"].text,
        tmp_path,
        shell,
        name="j.doe",
        value=f"{prints[2]},{prints[3]}",
        lines=f"{public[2]},{public[3]}",
    )
    assert done.returncode == 0, done.stderr
    assert keys.read_text().splitlines() == [public[2], public[3]] and oct(keys.stat().st_mode)[-3:] == "600"


@pytest.mark.parametrize("shell", SHELLS)
def test_a_program_that_fails_leaves_every_file_as_it_was(tmp_path: Path, shell: list[str]) -> None:
    """Files of others, files of ours, new ones and removed ones, with their modes and the lists beside them; what
    succeeds stays."""
    theirs, ours, new = tmp_path / "theirs", tmp_path / "ours", tmp_path / "new"
    theirs.write_text("as it was")
    theirs.chmod(0o640)
    ours.write_text("ours")
    body = library().programs["log-mark"].text.rpartition("have logger")[0]
    body += f"echo 1 | theirs {theirs} || exit 9\necho 2 | theirs {theirs} || exit 9\ngone {ours}\necho x | own {new} 600 || exit 9\n"
    state = tmp_path / "yardbolt"

    def seen() -> dict[str, str]:
        every = [theirs, ours, new, *(state / name for name in ("own", "edited"))]
        return {
            p.name: f"{p.stat().st_mode:o} {hashlib.sha256(p.read_bytes()).hexdigest()}" for p in every if p.exists()
        }

    before = seen()
    failed = sh(body + "no boom\n", tmp_path, shell)
    assert (failed.returncode, failed.stderr.strip()) == (9, "boom") and seen() == before
    assert not list(state.glob("undo.*")) and not (state / "at-work").exists()
    assert (
        sh(body, tmp_path, shell).returncode == 0 and theirs.read_text() == "2\n" and not ours.exists() and new.exists()
    )


@pytest.mark.parametrize("old", ["localhost", "box", "b.x"])
def test_a_new_name_leaves_the_loopback_its_own(tmp_path: Path, old: str) -> None:
    """Whatever it was called: 127.0.0.1 stays localhost, other names stay, the new one is found."""
    hosts = tmp_path / "hosts"
    hosts.write_text(
        f"127.0.0.1\tlocalhost\n::1 localhost ip6-localhost\n# {old}\n192.0.2.7 {old} {old}-b bxx\n10.0.0.1 other"
    )
    (tmp_path / "hostname").write_text(f"{old}\n")
    stubs = f'hostname() {{ echo "$1" >{tmp_path}/kernel; }}\nuname() {{ cat {tmp_path}/kernel; }}\n'
    (tmp_path / "kernel").write_text(f"{old}\n")
    done = sh(stubs + library().programs["host-name"].text, tmp_path, value="sk-01")
    assert done.returncode == 0, done.stderr
    assert hosts.read_text().splitlines()[:3] == ["127.0.0.1\tlocalhost", "::1 localhost ip6-localhost", f"# {old}"]
    assert f"192.0.2.7 sk-01 {old}-b bxx" in hosts.read_text() and "10.0.0.1 other" in hosts.read_text()
    assert (tmp_path / "hostname").read_text() == "sk-01\n"


def test_the_manifest_says_of_each_text_what_it_takes_and_nobody_is_left_out() -> None:
    """Every text is named, every variable a program takes is used, guarded programs refuse where nothing is armed."""
    files = {name for name in TEXTS if name.startswith(("read/", "write/"))}
    assert files == {f"read/{n}" for n in library().sections} | {f"write/{n}" for n in library().programs}
    for program in library().programs.values():
        used = expanded(TEXTS, f"write/{program.name}")
        assert all(re.search(rf"\b{word}\b", used) for word in program.takes), program.name
        assert ("timed return is not armed" in program.text) is program.guarded and program.undone
    for section in library().sections.values():
        assert section.decode in DECODERS
