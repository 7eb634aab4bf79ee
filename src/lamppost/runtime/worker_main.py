"""Entry of a worker process: ``python -m lamppost.runtime.worker_main FD CONFINES`` confines itself and then serves.

FD is the number of the socket to the service, CONFINES a JSON object (`Confines.to_json`). Before the process is confined it imports
nothing but the standard library, so that there is no thread of a library that is not confined.
"""

from __future__ import annotations

import socket
import sys

from lamppost.runtime.confinement.confine import Confines, confine
from lamppost.runtime.confinement.control_groups import join_groups


def main() -> None:
    """Confine this process, then answer until the service hangs up."""
    confines = Confines.from_json(sys.argv[2])
    join_groups(confines.groups)
    if not confine(confines):
        return
    from lamppost.runtime.worker import serve_until_hangup

    serve_until_hangup(socket.socket(fileno=int(sys.argv[1])))


if __name__ == "__main__":
    main()
