"""The one-way imports, and docs that stay true."""

from __future__ import annotations

import ast
import io
import re
import subprocess
import sys
import tokenize
from collections.abc import Iterator
from pathlib import Path

from frugal_sorter.cli import COMMANDS

ROOT = Path(__file__).resolve().parents[1]


def test_imports_go_one_way() -> None:
    script = "import sys; from importlinter.cli import lint_imports_command; lint_imports_command()"
    done = subprocess.run([sys.executable, "-c", script], cwd=ROOT, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stdout
    assert "3 kept, 0 broken" in done.stdout


def test_results_are_written_in_one_place() -> None:
    """Else a format number, a width or a cell that a spreadsheet takes for a formula is right in some commands alone."""
    writers = {
        path.name
        for path in (ROOT / "src/frugal_sorter/cli").rglob("*.py")
        for call, _, name in _calls(path)
        if ast.unparse(call.func) in ("json.dumps", "csv.writer", "Environment")
    }
    assert writers == {"results.py"}


def test_only_tables_of_data_are_laid_out_by_hand() -> None:
    marked = 0
    for path in (ROOT / "src").rglob("*.py"):
        text = path.read_text()
        ends = {number for number, line in enumerate(text.split("\n"), 1) if line.endswith("# fmt: skip")}
        values = [getattr(node, "value", None) for node in ast.walk(ast.parse(text)) if getattr(node, "end_lineno", 0) in ends]
        tables = [
            one
            for one in values
            if isinstance(one, (ast.Dict, ast.DictComp, ast.List, ast.Tuple, ast.Set, ast.Call, ast.Subscript))
        ]
        assert len(tables) >= len(ends), path
        marked += len(ends)
    assert marked <= 40


def test_no_module_has_more_than_500_lines_of_code() -> None:
    """Without blank lines, comments and docstrings."""
    no_code = (tokenize.COMMENT, tokenize.NL, tokenize.NEWLINE, tokenize.INDENT, tokenize.DEDENT, tokenize.ENDMARKER)
    for path in (ROOT / "src").rglob("*.py"):
        text = path.read_text()
        tokens = [token for token in tokenize.generate_tokens(io.StringIO(text).readline) if token.type not in no_code]
        code = {line for token in tokens for line in range(token.start[0], token.end[0] + 1)}
        texts = [
            node for node in ast.walk(ast.parse(text)) if isinstance(node, ast.Expr) and isinstance(node.value, ast.Constant)
        ]
        assert len(code.difference(*(range(one.lineno, (one.end_lineno or 0) + 1) for one in texts))) <= 500, path


OWN_FILES = ("state.py", "state.py", "reports/saved.py", "schedule/scheduler.py", "schedule/systemd.py", "schedule/launchd.py")


def test_only_steps_change_files() -> None:
    changing = (
        "os.rename",
        "os.remove",
        "disk.replace",
        "disk.unlink",
        "disk.rmdir",
        "disk.mkdir",
        "disk.link",
        "rename_exclusively",
        "shutil.",
        ".unlink(",
        ".rename(",
    )
    for path in (ROOT / "src/frugal_sorter").rglob("*.py"):
        package = path.relative_to(ROOT / "src/frugal_sorter").parts[0]
        if package not in ("steps", "changes", "demo", "platforms"):
            # The room for a full disk, the sums of runs, and what schedules are made of are the tool's own.
            text = "" if str(path).endswith(OWN_FILES) else path.read_text()
            assert not [word for word in changing if word in text], path


# The only module in which names go: the rest asks it to.
REMOVING = {"removal.py": {"unlink", "rmdir"}}
BY_PATH = {
    "lstat", "stat", "walk", "chmod", "lchown", "chown", "makedirs", "access", "scandir", "listdir", "readlink", "symlink",
    "open", "mkdir", "utime", "link", "rename", "replace", "unlink", "rmdir", "remove", "truncate", "setxattr", "getxattr",
    "removexattr", "listxattr", "removedirs", "mkfifo", "mknod", "chdir", "statvfs", "isdir", "isfile", "islink", "exists",
    "lexists", "ismount",
}  # fmt: skip
DESCRIPTORS = {"fd", "descriptor", "made", "target", "folder", "parent_fd", "own", "inside", "below", "descriptors"}
LOOKS = {"look", "look_or_none", "look_like", "look_like_or_none", "look_inside", "open_to_read", "with_sample"}


def _changing() -> list[Path]:
    """Return the modules that change files of a user."""
    return sorted(path for package in ("steps", "changes") for path in (ROOT / "src/frugal_sorter" / package).glob("*.py"))


def _calls(path: Path) -> Iterator[tuple[ast.Call, str, str]]:
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.Call) and isinstance(node.func, ast.Attribute):
            yield node, ast.unparse(node.func.value), node.func.attr
        elif isinstance(node, ast.Call) and isinstance(node.func, ast.Name):
            yield node, "", node.func.id


def _is_by_descriptor(call: ast.Call, name: str) -> bool:
    if any(word.arg in ("dir_fd", "src_dir_fd") for word in call.keywords):
        return True
    first = call.args[0] if call.args else None
    # The top is where every descent begins.
    return isinstance(first, ast.Name) and (first.id in DESCRIPTORS or (first.id == "top" and name == "open"))


def test_whatever_changes_a_file_goes_by_descriptors_and_never_by_a_path() -> None:
    """Below a folder that others can write a path can mean another file a moment later."""
    wrong = []
    for path in _changing():
        for call, of, name in _calls(path):
            where = f"{path.name}:{call.lineno} {ast.unparse(call)[:80]}"
            # There O_NOFOLLOW is about the whole path.
            if path.name == "descriptors.py" and ast.unparse(call) == "disk.open(path, PASS)":
                continue
            in_proc = path.name == "extras.py" and name in ("setxattr", "removexattr")  # /proc/self/fd/N
            if (of in ("os", "disk", "attributes") and name in BY_PATH and not _is_by_descriptor(call, name) and not in_proc) or (
                of in ("os.path", "Path", "shutil")
                and name not in ("join", "split", "dirname", "basename", "normpath", "relpath")
            ):
                wrong.append(where)
            if not of and name in LOOKS and len(call.args) < 2:
                wrong.append(where)
    assert not wrong, "\n".join(wrong)


# What is known of a system, and the calls that mean another thing on each: only `platforms` has them.
FOREIGN = {"fcntl", "pwd", "grp", "resource", "ctypes", "msvcrt", "winreg", "select", "selectors"}
CALLS = (BY_PATH - {"chdir"}) | {
    "fstat", "fsync", "pread", "pwrite", "readv", "fchmod", "fchown", "geteuid", "getuid", "getegid", "uname", "umask", "fork",
    "killpg", "set_blocking", "statvfs", "posix_fallocate", "copy_file_range", "sync",
}  # fmt: skip
# The struct of one call of Linux.
KNOWS_LINUX = {"status.py"}


def test_only_the_seam_knows_a_system() -> None:
    wrong = []
    for path in (ROOT / "src/frugal_sorter").rglob("*.py"):
        # What is run first looks for nothing but itself.
        if "platforms" in path.parts or path.name == "__main__.py":
            continue
        text = path.read_text()
        wrong += [
            f"{path.name}: {word}"
            for word in ("sys.platform", "os.name", "os.O_", "dir_fd=os.")
            if word in text and path.name not in KNOWS_LINUX
        ]
        for node in ast.walk(ast.parse(text)):
            names = [one.name for one in node.names] if isinstance(node, ast.Import) else []
            names += [node.module or ""] if isinstance(node, ast.ImportFrom) else []
            if path.name not in KNOWS_LINUX:
                wrong += [f"{path.name} imports {name}" for name in names if name in FOREIGN]
        wrong += [
            f"{path.name}:{call.lineno} {of}.{name}" for call, of, name in _calls(path)
            if (of == "os" and name in CALLS) or (of == "os.path" and name not in ("dirname", "basename", "split", "commonpath"))
        ]  # fmt: skip
    assert not wrong, "\n".join(wrong)


def test_names_are_removed_in_one_place() -> None:
    removing = {"unlink", "rmdir", "remove", "removedirs", "rmtree"}
    found: dict[str, set[str]] = {}
    for path in _changing():
        for _, of, name in _calls(path):
            if of in ("os", "disk", "shutil") and name in removing:
                found.setdefault(path.name, set()).add(name)
    assert found == REMOVING


def test_programs_are_started_isolated_and_nowhere_near_the_files() -> None:
    """Python would run a module that lies in the current folder and has the right name."""
    starting = {}
    for path in (ROOT / "src/frugal_sorter").rglob("*.py"):
        for call, _, name in _calls(path):
            if name in ("Popen", "run", "call", "check_output", "system", "spawnv") and "subprocess" in path.read_text():
                words = {word.arg: ast.unparse(word.value) for word in call.keywords}
                # A program may leave others running that hold the pipe: whoever reads it to its end waits for ever.
                assert "capture_output" not in words, path
                if {"stdin", "input"} & words.keys():
                    starting[path.name] = words["cwd"], "'-I'" in ast.unparse(call)
    # The program of a rule is the technician's own choice; the demo runs this program where it has just laid all out.
    assert starting.pop("demo.py")[0] == "folder"
    # By default "/"; a job of cron is started in the home of its account, as cron does it.
    assert starting.pop("scheduler.py") == ("cwd", False) and starting.pop("visits.py") == ("'/'", False)
    assert starting == {"contents.py": ("processes.START_FOLDER", True), "extras.py": ("processes.START_FOLDER", False)}


def test_the_readme_names_every_command_and_its_pictures_exist() -> None:
    readme = (ROOT / "README.md").read_text()
    assert not [name for name in COMMANDS if f"`frugal {name}" not in readme]
    pictures = sorted(path.name for path in (ROOT / "docs/screenshots").glob("*.png"))
    assert pictures and not [name for name in pictures if f"docs/screenshots/{name}" not in readme]


def test_the_architecture_names_every_package_and_files_that_are_there() -> None:
    text = (ROOT / "docs/architecture.md").read_text()
    package = ROOT / "src/frugal_sorter"
    packages = {path.parent.name for path in package.glob("*/__init__.py")}
    assert packages == set(re.findall(r"^\| `(\w+)/` \|", text, flags=re.MULTILINE))
    changes = text.partition("## Where do I change")[2].partition("\n## ")[0]
    named = set(re.findall(r"`([\w/]+(?:\.\w+|/))`", changes))
    assert changes.count("\n| ") - 1 >= 15 and len(named) >= 25
    assert not [one for one in named if not (package / one).exists() and not (ROOT / one).exists()]
    way = text.partition("## The way of one file")[2].partition("\n## ")[0]
    assert re.findall(r"^(\d+)\. ", way, flags=re.MULTILINE) == [str(number) for number in range(1, 11)]
    words = text.partition("## Words")[2].partition("\n## ")[0]
    assert words.count("\n| ") - 1 >= 30
