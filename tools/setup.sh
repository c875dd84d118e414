#!/bin/sh
# Makes the virtual environment from the lock file and sees to the system libraries.
# The one place that knows which Debian packages the window and the tests want.
set -eu
venv=${1:-.venv}

# What the xcb and offscreen plugins of PySide6 load and what confines the decoders, then what the
# tests use as independent truth.
libraries="libegl1 libgl1 libopengl0 libxkbcommon0 libxkbcommon-x11-0 libdbus-1-3 libfontconfig1
 libglib2.0-0 libxcb-cursor0 libxcb-icccm4 libxcb-keysyms1 libxcb-image0 libxcb-render-util0
 libxcb-shape0 libxcb-randr0 libxcb-xinerama0 libxcb-xkb1 libseccomp2"
tools="dosfstools mtools xvfb qemu-utils e2fsprogs fdisk exfatprogs exfat-fuse ntfs-3g 7zip"

missing=""
for package in $libraries $tools; do
    dpkg-query -W -f='${Status}' "$package" 2>/dev/null | grep -q 'ok installed' \
        || missing="$missing $package"
done
if [ -n "$missing" ] && command -v apt-get >/dev/null 2>&1; then
    as=""
    if [ "$(id -u)" -ne 0 ]; then
        if command -v sudo >/dev/null 2>&1 && sudo -n true 2>/dev/null; then as="sudo"; else as="no"; fi
    fi
    if [ "$as" = "no" ]; then
        echo "Please install first: sudo apt-get install$missing" >&2
    else
        # Another program may be installing right now: wait for it, up to five minutes.
        wait="-o DPkg::Lock::Timeout=300"
        tries=0
        until $as apt-get $wait update -q >/dev/null; do
            tries=$((tries + 1))
            if [ "$tries" -ge 30 ]; then
                echo "The package lists stay locked; please install: apt-get install$missing" >&2
                exit 1
            fi
            sleep 10
        done
        DEBIAN_FRONTEND=noninteractive $as apt-get $wait install -y -q --no-install-recommends \
            $missing >/dev/null
    fi
fi

if ! python3 -c 'import sys; sys.exit(sys.version_info < (3, 11))'; then
    echo "Needlewright needs Python 3.11 or newer." >&2
    exit 1
fi
[ -x "$venv/bin/python" ] || python3 -m venv "$venv"
"$venv/bin/python" -m pip install --quiet --disable-pip-version-check --require-hashes \
    -r requirements.lock
# No isolation: the build would fetch setuptools again; the lock file has it.
"$venv/bin/python" -m pip install --quiet --disable-pip-version-check --no-deps \
    --no-build-isolation -e .
# Compiled kernels are cached, so that the first window does not wait for them.
"$venv/bin/python" -m needlewright.core.warming
