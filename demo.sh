#!/bin/sh
# Install Kettlefield into .venv and run its demo. Further words go to `kettlefield demo`.
set -eu
cd "$(dirname "$0")"
. scripts/setup.sh
need bwrap=bubblewrap
case " $* " in
*" --fleet "*)
    need_postgresql
    environment '.[fleet,postgres]'
    ;;
*)
    # its short selection of the suite asks in every language, and for a page
    need $LANGUAGES
    need chromium-headless-shell=chromium-headless-shell || need chromium=chromium
    environment '.[pages]'
    ;;
esac
exec .venv/bin/kettlefield demo "$@"
