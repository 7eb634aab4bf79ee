"""The command line. Modules are imported when their command runs, so that help and completion are quick."""

from __future__ import annotations

import sys


def main() -> None:
    """Entry of the ``lamppost`` command: errors become one line on stderr and an exit code.

    0 done; 1 refused or failed; 2 wrong usage; 3 the service cannot be reached; 4 not signed in or not allowed; 130 Ctrl-C.
    """
    from lamppost.cli.command_table import make_command_line
    from lamppost.core.errors import LampPostError

    try:
        make_command_line()(prog_name="lamppost")
    except (LampPostError, ModuleNotFoundError) as error:
        from lamppost.cli.out import show_error
        from lamppost.core.extras import missing_extra

        shown = missing_extra(error) if isinstance(error, ModuleNotFoundError) else error
        if shown is None:
            raise
        show_error(shown, "--json" in sys.argv)
        sys.exit({"server-unreachable": 3, "not-signed-in": 4, "not-allowed": 4}.get(shown.code, 1))
    except KeyboardInterrupt:
        sys.exit(130)
    except BrokenPipeError:
        sys.stderr.close()
        sys.exit(1)
