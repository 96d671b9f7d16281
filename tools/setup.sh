#!/bin/sh
# Makes .venv from the lock file, and sees to the system libraries Qt needs. As root it installs them with apt-get;
# otherwise it prints the one command that does. Run by `make setup`; quick when nothing is missing.
set -eu
cd "$(dirname "$0")/.."

packages="python3-venv libegl1 libgl1 libxkbcommon0 libdbus-1-3 libfontconfig1 libglib2.0-0 libxcb-cursor0 libxkbcommon-x11-0 \
libxcb-icccm4 libxcb-image0 libxcb-keysyms1 libxcb-render-util0 libxcb-shape0 libxcb-xinerama0 libxcb-randr0 xvfb fonts-inter dbus at-spi2-core \
openssh-server nftables openssh-client iproute2"

missing_packages() {
    for package in $packages; do
        case "$package" in
            libglib2.0-0) names="libglib2.0-0 libglib2.0-0t64" ;;
            *) names="$package" ;;
        esac
        found=no
        for name in $names; do
            if dpkg-query -W -f '${Status}' "$name" 2>/dev/null | grep -q 'ok installed'; then found=yes; fi
        done
        [ "$found" = yes ] || printf '%s ' "$package"
    done
}

find_python() {
    for candidate in ${PYTHON:-} python3 python3.13 python3.12 python3.11; do
        if command -v "$candidate" >/dev/null 2>&1 &&
            "$candidate" -c 'import sys; sys.exit(sys.version_info < (3, 11))' 2>/dev/null; then
            echo "$candidate"
            return
        fi
    done
}

python=$(find_python)
# A Python that did not come from Debian brings venv itself.
if [ -n "$python" ] && "$python" -c 'import ensurepip, venv' 2>/dev/null; then
    packages=${packages#python3-venv }
fi
[ -n "$python" ] || packages="python3 $packages"

if command -v dpkg-query >/dev/null 2>&1; then
    missing=$(missing_packages)
    if [ -n "$missing" ]; then
        if [ "$(id -u)" = 0 ]; then
            echo "Installing system libraries: $missing"
            export DEBIAN_FRONTEND=noninteractive
            apt-get update -qq
            # shellcheck disable=SC2086
            apt-get install -y -qq --no-install-recommends $missing >/dev/null
        else
            echo "These system packages are missing: $missing" >&2
            echo "Install them with:  sudo apt-get install --no-install-recommends $missing" >&2
            [ -n "$python" ] || exit 1
        fi
    fi
else
    echo "This is no Debian or Ubuntu: see README.md for the libraries Qt needs." >&2
fi

python=$(find_python)
if [ -z "$python" ]; then
    echo "Yondle needs Python 3.11 or newer; install it, or name one:  make setup PYTHON=/path/to/python3" >&2
    exit 1
fi

stamp=.venv/.locked
if [ ! -f "$stamp" ] || ! cmp -s requirements.lock "$stamp" || [ pyproject.toml -nt "$stamp" ]; then
    echo "Making .venv from the lock file; the first time takes a minute or two."
    [ -x .venv/bin/python ] || "$python" -m venv .venv
    .venv/bin/python -m pip install -q --disable-pip-version-check --require-hashes -r requirements.lock
    .venv/bin/python -m pip install -q --disable-pip-version-check --no-deps --no-build-isolation -e .
    cp requirements.lock "$stamp"
fi
