#!/bin/sh
# Makes the machine of `make vm-test` in build/vm (as root): a small Debian with the packages of `make deb` in it, its kernel, its
# first file system and a disk image. MIRROR is where the Debian comes from (this machine's own by default); what is there is kept.
# The kernel is the usual one: the smaller one for clouds has no driver of the emulated watchdog.
set -eu
cd "$(dirname "$0")/.."
at=${YONDLE_VM:-build/vm}
mirror=${MIRROR:-$(sed -n 's/^deb \(\[[^]]*\] \)\{0,1\}\([^ ]*\) .*/\2/p; s/^URIs: *\([^ ]*\).*/\1/p' /etc/apt/sources.list /etc/apt/sources.list.d/debian* 2>/dev/null | head -n 1)}
mkdir -p "$at"
root=$at/root
if [ ! -e "$root/boot" ] || ! ls "$root"/boot/vmlinuz-* > /dev/null 2>&1; then
    for need in debootstrap qemu-system-x86_64 mkfs.ext4; do
        command -v "$need" > /dev/null || apt-get install -y -qq --no-install-recommends debootstrap qemu-system-x86 e2fsprogs > /dev/null
    done
    debootstrap --variant=minbase --include=systemd,systemd-sysv,dbus,linux-image-amd64,python3,udev,kmod,procps,openssh-server bookworm "$root" "$mirror" > /dev/null
fi
mkdir -p "$root/etc/systemd/system/serial-getty@ttyS0.service.d"
cat > "$root/etc/systemd/system/serial-getty@ttyS0.service.d/login.conf" <<'LOGIN'
[Service]
ExecStart=
ExecStart=-/sbin/agetty --autologin root --noclear ttyS0 vt220
LOGIN
echo "/dev/vda / ext4 defaults,errors=remount-ro 0 1" > "$root/etc/fstab"
echo bench > "$root/etc/hostname"
echo i6300esb > "$root/etc/modules-load.d/watchdog.conf"
sed -i 's/^root:[^:]*:/root::/' "$root/etc/shadow"
# As a bench across the room it is reached over the emulator's own network, with a key made for it.
printf '[Match]\nName=en*\n[Network]\nDHCP=ipv4\n' > "$root/etc/systemd/network/bench.network"
chroot "$root" systemctl enable -q systemd-networkd ssh
[ -e "$at/key" ] || ssh-keygen -q -t ed25519 -N "" -f "$at/key"
mkdir -p "$root/root/.ssh"
cp "$at/key.pub" "$root/root/.ssh/authorized_keys"
cp "$root/etc/ssh/ssh_host_ed25519_key.pub" "$at/host.pub"
rm -f "$root/etc/resolv.conf"
cp "$(ls -t dist/yondle_*+py311_*.deb | head -n 1)" "$root/tmp/yondle.deb"
cp "$(ls -t dist/yondle-helper_*.deb | head -n 1)" "$root/tmp/helper.deb"
chroot "$root" sh -c 'dpkg --force-depends -i /tmp/yondle.deb /tmp/helper.deb > /dev/null 2>&1; rm -f /tmp/*.deb; test -x /usr/bin/yondle; id tuner > /dev/null 2>&1 || useradd -m -s /bin/bash tuner'
cp "$(ls "$root"/boot/vmlinuz-* | tail -n 1)" "$at/vmlinuz"
cp "$(ls "$root"/boot/initrd.img-* | tail -n 1)" "$at/initrd"
rm -f "$at/disk.img"
truncate -s 3G "$at/disk.img"
mkfs.ext4 -q -d "$root" "$at/disk.img"
echo "made $at"
