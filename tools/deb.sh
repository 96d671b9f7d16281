#!/bin/sh
# Builds a Debian package in dist/: Yondle and what it needs from the lock file under /usr/lib/yondle, run by the system's Python.
# Run by `make deb`. The package fits the Python minor version it was built with.
set -eu
cd "$(dirname "$0")/.."
python=.venv/bin/python
version=$($python -c 'import yondle; print(yondle.__version__)')
minor=$($python -c 'import sys; print(f"{sys.version_info[0]}.{sys.version_info[1]}")')
next=$($python -c 'import sys; print(f"{sys.version_info[0]}.{sys.version_info[1] + 1}")')
arch=$(dpkg --print-architecture)
root=$(mktemp -d)
trap 'rm -rf "$root"' EXIT
site=$root/usr/lib/yondle
mkdir -p dist "$site" "$root/usr/bin" "$root/DEBIAN" "$root/usr/share/man/man1" "$root/usr/share/doc/yondle" \
    "$root/usr/share/bash-completion/completions" "$root/usr/share/zsh/vendor-completions" "$root/usr/share/fish/vendor_completions.d"

echo "Gathering Yondle $version and its libraries"
$python -m pip wheel -q --disable-pip-version-check --no-deps --no-build-isolation -w "$root/wheel" .
$python tools/needed.py requirements.lock > "$root/needed.txt"
$python -m pip install -q --disable-pip-version-check --no-compile --require-hashes --target "$site" -r "$root/needed.txt"
$python -m pip install -q --disable-pip-version-check --no-compile --no-deps --target "$site" "$root"/wheel/*.whl
rm -rf "$root/wheel" "$root/needed.txt" "$site/bin"
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
YONDLE_LANGUAGE=en $python tools/manpage.py "$root/usr/share/man/man1/yondle.1"
YONDLE_LANGUAGE=de $python tools/manpage.py "$root/usr/share/man/de/man1/yondle.1"
gzip -9n "$root/usr/share/man/man1/yondle.1" "$root/usr/share/man/de/man1/yondle.1"
for shell in bash zsh fish; do
    case "$shell" in
        bash) target=bash-completion/completions/yondle ;;
        zsh) target=zsh/vendor-completions/_yondle ;;
        fish) target=fish/vendor_completions.d/yondle.fish ;;
    esac
    _YONDLE_COMPLETE=source_$shell .venv/bin/yondle > "$root/usr/share/$target"
done
cp LICENSE "$root/usr/share/doc/yondle/copyright"
cat > "$root/DEBIAN/control" <<CONTROL
Package: yondle
Version: $version
Architecture: $arch
Maintainer: Yondle's maintainers <maintainers@yondle.invalid>
Installed-Size: $(du -sk "$root/usr" | cut -f1)
Depends: python$minor, python3 (<< $next), libegl1, libgl1, libxkbcommon0, libdbus-1-3, libfontconfig1, libxcb-cursor0, libxkbcommon-x11-0, libxcb-icccm4, libxcb-image0, libxcb-keysyms1, libxcb-render-util0, libxcb-shape0, libxcb-xinerama0, libxcb-randr0
Recommends: libnotify-bin, shared-mime-info, desktop-file-utils
Section: utils
Priority: optional
Description: logbook for PC tuners
 You change one setting of a PC, Yondle tests it, tells a gain from noise, writes
 everything down, and puts the machine back when the setting fails.
CONTROL
cat > "$root/DEBIAN/postinst" <<POSTINST
#!/bin/sh
set -e
python$minor -m compileall -q /usr/lib/yondle > /dev/null || true
POSTINST
cat > "$root/DEBIAN/prerm" <<PRERM
#!/bin/sh
set -e
find /usr/lib/yondle -name __pycache__ -prune -exec rm -rf {} +
PRERM
chmod 755 "$root/DEBIAN/postinst" "$root/DEBIAN/prerm"
find "$root/usr" -name __pycache__ -prune -exec rm -rf {} +
dpkg-deb --root-owner-group -Zxz -z1 --build "$root" "dist/yondle_${version}_$arch.deb" > /dev/null
ls -l "dist/yondle_${version}_$arch.deb"
