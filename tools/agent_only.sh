#!/bin/sh
# Leaves of a gathered Yondle (FOLDER, by tools/gather.sh) what a bench across the room needs: the agent, its workloads and their
# libraries, without the window, the command line's and the reports'. Run by tools/deb.sh.
set -eu
site=$1/usr/lib/yondle
needed="yondle numpy numpy.libs numba llvmlite pydantic pydantic_core annotated_types typing_extensions.py typing_inspection platformdirs \
serial moderngl glcontext"
for each in "$site"/*; do
    name=$(basename "$each")
    keep=no
    for wanted in $needed; do
        # What names itself after a library is its description, which licences stand in.
        case "$name" in "$wanted" | "${wanted%.py}"-*.dist-info) keep=yes ;; pyserial-*.dist-info) keep=yes ;; esac
    done
    [ $keep = yes ] || rm -rf "$each"
done
rm -rf "$site/yondle/desktop" "$site/yondle/reports" "$site/yondle/integration" "$1/usr/share/applications" "$1/usr/share/icons" \
    "$1/usr/share/mime" "$1/usr/share/metainfo" "$1/usr/share/man" "$1/usr/share/bash-completion" "$1/usr/share/zsh" \
    "$1/usr/share/fish"
find "$site" -type d -name tests -prune -exec rm -rf {} +
