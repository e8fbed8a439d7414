#!/bin/sh
# Install what the tests need into .venv and run them. Further words go to pytest.
set -eu
cd "$(dirname "$0")"
. scripts/setup.sh
need chromium=chromium chromium-headless-shell=chromium-headless-shell ssh-keygen=openssh-client bwrap=bubblewrap unshare=util-linux /usr/bin/python3=python3 $LANGUAGES
need_postgresql
environment '.[test]'
# a file of tests stays with one worker, so that what its tests share is made once; files in their own order, since
# the one with the longest test has few of them and would come last
exec .venv/bin/python -m pytest -n auto --dist loadfile --no-loadscope-reorder "$@"
