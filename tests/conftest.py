"""Fixtures."""

import pytest
from hypothesis import settings

from helpers import bench, linux, linux_tree
from lumtak.work.data_folder import DataFolder

settings.register_profile("lumtak", deadline=None, max_examples=60, derandomize=True)
settings.load_profile("lumtak")


def pytest_collection_modifyitems(items):
    """Long tests come first, so that nobody waits for the last of them."""
    items.sort(key=lambda item: item.get_closest_marker("long") is None)


@pytest.fixture
def home(tmp_path):
    return tmp_path / "home"


@pytest.fixture
def data_folder(home):
    made = DataFolder(home)
    yield made
    made.close()


@pytest.fixture
def sim(home):
    return bench(home / "simulated")


@pytest.fixture
def tree(tmp_path):
    return linux_tree(tmp_path / "root")


@pytest.fixture
def box(tree):
    return linux(tree)
