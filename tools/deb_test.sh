#!/bin/sh
# Installs the packages of `make deb` on a bare Debian made for it (debootstrap, as root), runs them there as a user would, and
# purges them. Run by `make deb-test`; DEBIAN names the release, MIRROR where it comes from (this machine's own by default).
set -eu
cd "$(dirname "$0")/.."
release=${DEBIAN:-bookworm}
case "$release" in
    bookworm) built=py311 ;;
    noble) built=py312 ;;
    *) built=py313 ;;
esac
package=$(ls dist/yondle_*+"$built"_*.deb | tail -n 1)
helper=$(ls dist/yondle-helper_*.deb | tail -n 1)
mirror=${MIRROR:-$(sed -n 's/^deb \(\[[^]]*\] \)\{0,1\}\([^ ]*\) .*/\2/p; s/^URIs: *\([^ ]*\).*/\1/p' /etc/apt/sources.list /etc/apt/sources.list.d/debian* 2>/dev/null | head -n 1)}
root=$(mktemp -d)
trap 'umount "$root/proc" 2>/dev/null || true; rm -rf "$root"' EXIT
debootstrap --variant=minbase "$release" "$root" "$mirror" > /dev/null
mount -t proc proc "$root/proc" 2>/dev/null || true
cp /etc/resolv.conf "$root/etc/resolv.conf" 2>/dev/null || true
for each in /etc/apt/apt.conf /etc/apt/apt.conf.d/*; do [ -f "$each" ] && cp "$each" "$root/etc/apt/apt.conf.d/"; done
cp "$package" "$root/tmp/yondle.deb"
cp "$helper" "$root/tmp/helper.deb"
chroot "$root" sh -eux <<'INSIDE'
export DEBIAN_FRONTEND=noninteractive LANG=C.UTF-8 HOME=/root
apt-get update -qq
apt-get install -y -qq --no-install-recommends /tmp/yondle.deb /tmp/helper.deb shared-mime-info > /dev/null
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
printf '{"n":1,"do":"hello"}\n' | /usr/libexec/yondle-helper | grep -q '"ok": true'
printf '#!/bin/sh\n' > /usr/local/bin/pkexec
chmod 755 /usr/local/bin/pkexec
python3 -c "
import sys
sys.path.insert(0, '/usr/lib/yondle')
from yondle.rigs.linux.privilege import find_way
print(find_way(uid=1000))
assert find_way(uid=1000).command[1] == '/usr/libexec/yondle-helper'"
apt-get purge -y -qq yondle yondle-helper > /dev/null
for left in /usr/lib/yondle /usr/lib/yondle-helper /usr/libexec/yondle-helper /usr/libexec/yondle-keep /usr/lib/systemd/system/yondle-keep.service /run/yondle-helper /var/lib/yondle; do test ! -e "$left"; done
test -z "$(ls /usr/share/polkit-1/actions 2> /dev/null | grep yondle)"
INSIDE
echo "installed, run and removed on $release"
