#!/bin/sh
# Install Kettlefield into .venv and run its demo. Further words go to `kettlefield demo`.
set -eu
cd "$(dirname "$0")"
. scripts/setup.sh
need bwrap=bubblewrap node=nodejs
environment .
exec .venv/bin/kettlefield demo "$@"
