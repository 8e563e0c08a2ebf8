#!/bin/sh
# Install the Debian packages the tests need; without the right to, say which.
missing=""
command -v tmux >/dev/null 2>&1 || missing="tmux"
PATH="$PATH:/usr/sbin:/sbin" command -v ip >/dev/null 2>&1 || missing="$missing iproute2"
python3 -c 'import ensurepip' >/dev/null 2>&1 || missing="$missing python3-venv"
[ -z "$missing" ] && exit 0
if [ "$(id -u)" = 0 ] && command -v apt-get >/dev/null 2>&1; then
    apt-get update -qq && apt-get install -y -qq $missing >/dev/null
else
    echo "the tests need these packages; install them and try again: $missing" >&2
    exit 1
fi
