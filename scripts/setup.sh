# Set-up that demo.sh and test.sh share: Debian packages where we may install them, a virtual environment, the package.

# need PROGRAM=PACKAGE ...: make sure that programs are there; as root missing ones are installed
need() {
    missing=""
    for pair in "$@"; do
        command -v "${pair%%=*}" >/dev/null 2>&1 || missing="$missing ${pair#*=}"
    done
    [ -z "$missing" ] && return 0
    if [ "$(id -u)" = 0 ] && command -v apt-get >/dev/null 2>&1; then
        apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq $missing >/dev/null
    else
        echo "missing:$missing; install them first: sudo apt-get install$missing" >&2
        exit 2
    fi
}

# need_postgresql: the database server's programs, which Debian keeps off the PATH; its own cluster is not started
need_postgresql() {
    command -v initdb >/dev/null 2>&1 && return 0
    for folder in /usr/lib/postgresql/*/bin; do
        [ -x "$folder/initdb" ] && return 0
    done
    if [ "$(id -u)" = 0 ] && [ ! -e /etc/postgresql-common/createcluster.conf ]; then
        mkdir -p /etc/postgresql-common
        echo "create_main_cluster = false" > /etc/postgresql-common/createcluster.conf
    fi
    need initdb=postgresql
}

# every language that answers are graded in; a missing one is installed as root, else named
LANGUAGES="node=nodejs gcc=gcc cc=gcc g++=g++ rustc=rustc javac=default-jdk-headless go=golang-go sqlite3=sqlite3 ruby=ruby php=php-cli mcs=mono-mcs kotlinc=kotlin tsc=node-typescript"

# environment EXTRAS: a virtual environment in .venv that holds this checkout
environment() {
    python=$(command -v python3 || true)
    [ -n "$python" ] || need python3=python3
    if [ ! -x .venv/bin/python ]; then
        python3 -m venv .venv 2>/dev/null || { need ensurepip=python3-venv; python3 -m venv .venv; }
    fi
    .venv/bin/python -m pip install --quiet --disable-pip-version-check -e "$1"
}
