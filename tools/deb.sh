#!/bin/sh
# Builds Debian packages in dist/: `yondle`, with what it needs from the lock file under /usr/lib/yondle, `yondle-agent`, which is
# enough of it for a bench across the room, and `yondle-helper`, which runs as root. Run by `make deb`. PYTHON
# names the interpreter of the release it is for (3.11 for Debian 12, 3.13 for Debian 13,
# 3.12 for Ubuntu 24.04); without one it is that of .venv.
set -eu
cd "$(dirname "$0")/.."
python=${PYTHON:-.venv/bin/python}
version=$(sed -n 's/^version = "\(.*\)"/\1/p' pyproject.toml | head -n 1)
minor=$($python -c 'import sys; print(f"{sys.version_info[0]}.{sys.version_info[1]}")')
next=$($python -c 'import sys; print(f"{sys.version_info[0]}.{sys.version_info[1] + 1}")')
arch=$(dpkg --print-architecture)
both=$(mktemp -d)
trap 'rm -rf "$both"' EXIT
mkdir -p dist
tools/gather.sh "$both"
root=$both/yondle
agent=$both/yondle-agent
cp -a "$root" "$agent"
tools/agent_only.sh "$agent"
mkdir -p "$agent/DEBIAN" "$agent/usr/share/doc"
[ ! -e "$agent/usr/share/doc/yondle" ] || mv "$agent/usr/share/doc/yondle" "$agent/usr/share/doc/yondle-agent"
mkdir -p "$root/DEBIAN" "$both/yondle-helper/DEBIAN" "$root/usr/share/zsh/vendor-completions"
mv "$root"/usr/share/zsh/site-functions/_yondle "$root/usr/share/zsh/vendor-completions/"
rmdir "$root/usr/share/zsh/site-functions"
full=$version+py$(echo "$minor" | tr -d .)

cat > "$root/DEBIAN/control" <<CONTROL
Package: yondle
Version: $full
Architecture: $arch
Maintainer: Yondle's maintainers <maintainers@yondle.invalid>
Installed-Size: $(du -sk "$root/usr" | cut -f1)
Depends: python$minor, python3 (<< $next), libegl1, libgl1, libxkbcommon0, libdbus-1-3, libfontconfig1, libxcb-cursor0, libxkbcommon-x11-0, libxcb-icccm4, libxcb-image0, libxcb-keysyms1, libxcb-render-util0, libxcb-shape0, libxcb-xinerama0, libxcb-randr0
Recommends: yondle-helper (= $version), shared-mime-info, desktop-file-utils
Section: utils
Priority: optional
Description: logbook for PC tuners
 You change one setting of a PC, Yondle tests it, tells a gain from noise, writes
 everything down, and puts the machine back when the setting fails.
CONTROL
cat > "$agent/DEBIAN/control" <<CONTROL
Package: yondle-agent
Version: $full
Architecture: $arch
Maintainer: Yondle's maintainers <maintainers@yondle.invalid>
Installed-Size: $(du -sk "$agent/usr" | cut -f1)
Depends: python$minor, python3 (<< $next)
Recommends: yondle-helper (= $version), openssh-server
Conflicts: yondle
Section: utils
Priority: optional
Description: a bench for a Yondle elsewhere
 What Yondle starts over SSH on a machine that is tuned from another: it sets
 knobs, reads sensors and runs benchmarks, and puts everything back when it
 hears no more. No window, and no port.
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

cp "$root/DEBIAN/postinst" "$root/DEBIAN/prerm" "$agent/DEBIAN/"
cat > "$both/yondle-helper/DEBIAN/control" <<CONTROL
Package: yondle-helper
Version: $version
Architecture: all
Maintainer: Yondle's maintainers <maintainers@yondle.invalid>
Installed-Size: $(du -sk "$both/yondle-helper/usr" | cut -f1)
Depends: python3 (>= 3.11)
Recommends: polkitd, pkexec
Section: utils
Priority: optional
Description: sets for Yondle what only root may set
 A small program that runs as root after an administrator's word: it sets clocks,
 limits and switches within the kernel's ranges, and puts them back; and a
 service, off until it is asked for, that keeps a proven profile over restarts.
 Standard library only.
CONTROL
cat > "$both/yondle-helper/DEBIAN/postinst" <<'POSTINST'
#!/bin/sh
set -e
if [ -d /run/systemd/system ]; then
    systemctl daemon-reload
    systemctl try-restart yondle-keep.service || true
fi
POSTINST
cat > "$both/yondle-helper/DEBIAN/prerm" <<'PRERM'
#!/bin/sh
set -e
if [ "$1" = remove ] && [ -d /run/systemd/system ]; then
    systemctl disable --quiet --now yondle-keep.service yondle-night.service || true
fi
PRERM
cat > "$both/yondle-helper/DEBIAN/postrm" <<'POSTRM'
#!/bin/sh
set -e
if [ "$1" = purge ]; then
    rm -rf /run/yondle-helper /var/lib/yondle
    rmdir --ignore-fail-on-non-empty /etc/yondle/own.d /etc/yondle 2> /dev/null || true
fi
POSTRM
chmod 755 "$root/DEBIAN/"p* "$agent/DEBIAN/"p* "$both/yondle-helper/DEBIAN/"p*
chmod -R go-w "$both"
dpkg-deb --root-owner-group -Zxz -z1 --build "$root" "dist/yondle_${full}_$arch.deb" > /dev/null
dpkg-deb --root-owner-group -Zxz -z1 --build "$agent" "dist/yondle-agent_${full}_$arch.deb" > /dev/null
dpkg-deb --root-owner-group -Zxz -z1 --build "$both/yondle-helper" "dist/yondle-helper_${version}_all.deb" > /dev/null
ls -l "dist/yondle_${full}_$arch.deb" "dist/yondle-agent_${full}_$arch.deb" "dist/yondle-helper_${version}_all.deb"
