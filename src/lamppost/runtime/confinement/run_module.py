"""Runs a Python module as a program in a confined process: ``python -m lamppost.runtime.confinement.run_module CONFINES MODULE …``."""

from __future__ import annotations

import runpy
import sys

from lamppost.runtime.confinement.confine import Confines, confine
from lamppost.runtime.confinement.control_groups import join_groups


def main() -> None:
    """Confine this process, then run the module with the words that follow its name."""
    confines, module = Confines.from_json(sys.argv[1]), sys.argv[2]
    join_groups(confines.groups)
    if confine(confines):
        sys.argv = [module, *sys.argv[3:]]
        runpy.run_module(module, run_name="__main__", alter_sys=True)


if __name__ == "__main__":
    main()
