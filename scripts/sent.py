"""Holds what is sent to a computer to its rules: `make check` runs it.

It is in the language of Python 3.8, imports the standard library and itself only, and what changes
a file, a folder or its rights by a path, or opens one, stands in `files/` alone: anybody else has
a descriptor.
"""

import ast
import sys
from collections.abc import Iterator

from lumtak.computers.hands.channel import sent

_PACKAGE = "lumtak.computers.hands.sent"
CHANGES = {
    "chmod", "chown", "lchown", "link", "makedirs", "mkdir", "mkfifo", "mknod", "remove",
    "removedirs", "rename", "renames", "replace", "rmdir", "symlink", "truncate", "unlink", "utime",
    "setxattr", "removexattr",
}  # fmt: skip
_BY_DESCRIPTOR = {"dir_fd", "src_dir_fd"}
_DESCRIPTORS = ("descriptor", "folder")
"""How what holds one is called."""
_WRITES = {"O_WRONLY", "O_RDWR", "O_CREAT", "O_TRUNC"}


def faults(name: str, text: str) -> Iterator[str]:
    """What is wrong with one module, a sentence each."""
    tree = ast.parse(text, feature_version=(3, 8))
    for node in ast.walk(tree):
        for module in _imported(node):
            if not module.startswith(_PACKAGE) and module.partition(".")[0] not in STANDARD:
                yield f"{name}:{node.lineno}: {module} is not of the standard library"
        if name.startswith("files.") or not isinstance(node, ast.Call):
            continue
        if _changes_by_path(node):
            yield f"{name}:{node.lineno}: {ast.unparse(node.func)} by a path: only files/ does that"
        elif _opens_a_path(node):
            yield f"{name}:{node.lineno}: {ast.unparse(node)} opens a path: only files/ does that"


STANDARD = sys.stdlib_module_names


def _imported(node: ast.AST) -> list[str]:
    if isinstance(node, ast.Import):
        return [alias.name for alias in node.names]
    return [node.module or ""] if isinstance(node, ast.ImportFrom) else []


def _opens_a_path(node: ast.Call) -> bool:
    """Whether a call opens a file or folder that it names by a path."""
    if any(word.arg in _BY_DESCRIPTOR for word in node.keywords):
        return False
    called = ast.unparse(node.func)
    if called in {"open", "os.open"}:
        return ast.unparse(node.args[0]) != "os.devnull"
    lists = called in {"os.scandir", "os.listdir", "os.walk", "glob.glob"}
    return lists and not ast.unparse(node.args[0]).endswith(_DESCRIPTORS)


def _changes_by_path(node: ast.Call) -> bool:
    """Whether a call changes something that it names by a path."""
    if any(word.arg in _BY_DESCRIPTOR for word in node.keywords):
        return False
    called = node.func
    of_os = isinstance(called, ast.Attribute) and ast.unparse(called.value) == "os"
    if of_os and called.attr in CHANGES:
        return True
    if of_os and called.attr == "open":
        inner = [n for arg in node.args[1:2] for n in ast.walk(arg)]
        flags = {n.attr for n in inner if isinstance(n, ast.Attribute)}
        return bool(flags & _WRITES) and ast.unparse(node.args[0]) != "os.devnull"
    is_open = isinstance(called, ast.Name) and called.id == "open"
    modes = [a.value for a in node.args[1:2] if isinstance(a, ast.Constant)]
    return is_open and any(set(str(mode)) & set("wax+") for mode in modes)


def main() -> int:
    """Print what is wrong; 1 where anything is."""
    found = [fault for name, text in sent().items() for fault in faults(name, text)]
    for fault in found:
        print(fault)
    return bool(found)


if __name__ == "__main__":
    sys.exit(main())
