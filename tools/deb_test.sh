#!/bin/sh
# Installs the package of `make deb` on a bare Debian made for it (debootstrap, as root) and runs it there as a user would.
# Run by `make deb-test`; DEBIAN names the release, MIRROR where it comes from (this machine's own by default).
set -eu
cd "$(dirname "$0")/.."
package=$(ls dist/yondle_*.deb | tail -n 1)
release=${DEBIAN:-bookworm}
mirror=${MIRROR:-$(sed -n 's/^deb \(\[[^]]*\] \)\{0,1\}\([^ ]*\) .*/\2/p; s/^URIs: *\([^ ]*\).*/\1/p' /etc/apt/sources.list /etc/apt/sources.list.d/* 2>/dev/null | head -n 1)}
root=$(mktemp -d)
trap 'umount "$root/proc" 2>/dev/null || true; rm -rf "$root"' EXIT
debootstrap --variant=minbase "$release" "$root" "$mirror" > /dev/null
mount -t proc proc "$root/proc" 2>/dev/null || true
cp /etc/resolv.conf "$root/etc/resolv.conf" 2>/dev/null || true
for each in /etc/apt/apt.conf /etc/apt/apt.conf.d/*; do [ -f "$each" ] && cp "$each" "$root/etc/apt/apt.conf.d/"; done
for each in /etc/apt/sources.list /etc/apt/sources.list.d; do [ -e "$each" ] && cp -r "$each" "$root/etc/apt/"; done
cp "$package" "$root/tmp/yondle.deb"
chroot "$root" sh -eux <<'INSIDE'
export DEBIAN_FRONTEND=noninteractive LANG=C.UTF-8 HOME=/root
apt-get update -qq
apt-get install -y -qq --no-install-recommends /tmp/yondle.deb shared-mime-info > /dev/null
cd /tmp
yondle --help | head -n 3
yondle new a.yondle --rig heron
yondle baseline a.yondle -n 2 > /dev/null
yondle report a.yondle a.html
yondle report a.yondle a.pdf
QT_QPA_PLATFORM=offscreen timeout 20 yondle open a.yondle || [ $? = 124 ]
update-mime-database /usr/share/mime
grep -q 'application/vnd.yondle.logbook:\*.yondle' /usr/share/mime/globs
test -s /usr/share/applications/net.yondle.Yondle.desktop
test -s /usr/share/man/man1/yondle.1.gz
test -s /usr/share/man/de/man1/yondle.1.gz
LANG=de_DE.UTF-8 yondle status /nowhere.yondle 2>&1 | grep -q "Es gibt kein Logbuch"
test -s /usr/share/bash-completion/completions/yondle
apt-get purge -y -qq yondle > /dev/null
test ! -e /usr/lib/yondle
INSIDE
echo "installed, run and removed on $release"
