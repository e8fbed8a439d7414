#!/bin/sh
# Install what the tests need into .venv and run them. Further words go to pytest.
set -eu
cd "$(dirname "$0")"
. scripts/setup.sh
need bwrap=bubblewrap unshare=util-linux /usr/bin/python3=python3 $LANGUAGES
environment '.[test]'
exec .venv/bin/python -m pytest "$@"
