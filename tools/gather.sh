#!/bin/sh
# Lays Yondle out as packages have it: FOLDER/yondle with its libraries from the lock file, FOLDER/yondle-helper with the helper
# and its policy. Run by tools/deb.sh, packaging/arch/PKGBUILD and packaging/rpm/yondle.spec. PYTHON names the interpreter it is
# for, whose minor version it then needs; without one it is that of .venv.
set -eu
cd "$(dirname "$0")/.."
folder=$1
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
if [ -n "${PYTHON:-}" ]; then
    echo "Making an environment for $PYTHON"
    "$PYTHON" -m venv "$work/venv"
    python=$work/venv/bin/python
    $python -m pip install -q --disable-pip-version-check --require-hashes -r requirements.lock
    PYTHONPATH=$PWD/src
    export PYTHONPATH
else
    python=$PWD/.venv/bin/python
fi
minor=$($python -c 'import sys; print(f"{sys.version_info[0]}.{sys.version_info[1]}")')
root=$folder/yondle
site=$root/usr/lib/yondle
mkdir -p "$site" "$root/usr/bin" "$root/usr/share/man/man1" "$root/usr/share/doc/yondle" \
    "$root/usr/share/bash-completion/completions" "$root/usr/share/zsh/site-functions" "$root/usr/share/fish/vendor_completions.d"

echo "Gathering Yondle and its libraries for Python $minor"
$python -m pip wheel -q --disable-pip-version-check --no-deps --no-build-isolation -w "$work/wheel" .
$python tools/needed.py requirements.lock > "$work/needed.txt"
$python -m pip install -q --disable-pip-version-check --no-compile --require-hashes --target "$site" -r "$work/needed.txt"
$python -m pip install -q --disable-pip-version-check --no-compile --no-deps --target "$site" "$work"/wheel/*.whl
rm -rf "$site/bin"
$python tools/slim_qt.py "$site"

cat > "$root/usr/bin/yondle" <<LAUNCHER
#!/usr/bin/python$minor -sE
import sys

sys.path.insert(0, "/usr/lib/yondle")
from yondle.main import main

main()
LAUNCHER
chmod 755 "$root/usr/bin/yondle"
$python -c "from pathlib import Path; from yondle.app.system.integrate import integrate; integrate(Path('$root/usr/share'))"
rm -rf "$root/usr/share/applications/mimeinfo.cache" "$root"/usr/share/mime/[!p]*
for language in en de; do
    page=$root/usr/share/man/$([ $language = en ] || echo $language/)man1/yondle.1
    YONDLE_LANGUAGE=$language $python tools/manpage.py "$page"
    gzip -9n "$page"
done
for shell in bash zsh fish; do
    case "$shell" in
        bash) target=bash-completion/completions/yondle ;;
        zsh) target=zsh/site-functions/_yondle ;;
        fish) target=fish/vendor_completions.d/yondle.fish ;;
    esac
    _YONDLE_COMPLETE=source_$shell $python -c 'from yondle.main import main; main()' > "$root/usr/share/$target"
done
cp LICENSE "$root/usr/share/doc/yondle/copyright"
install -d "$folder/yondle-helper/usr/share/doc/yondle-helper"
cp LICENSE "$folder/yondle-helper/usr/share/doc/yondle-helper/copyright"
$python -c "from pathlib import Path; from yondle.app.system.helper_install import install_packaged; install_packaged(Path('$folder/yondle-helper'))"
find "$folder" -name __pycache__ -prune -exec rm -rf {} +
