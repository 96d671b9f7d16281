# Builds Yondle and its helper for distributions with RPM from `make source`:
#   rpmbuild -bb --define "_sourcedir $PWD/dist" packaging/rpm/yondle.spec
# It downloads Yondle's libraries from the Python package index, by the hashes of requirements.lock.
%{!?__python3: %global __python3 /usr/bin/python3}
%global minor %(%{__python3} -c 'import sys; print("%d.%d" % sys.version_info[:2])')
%global debug_package %{nil}
%global _build_id_links none
%global __os_install_post %{nil}

Name:           yondle
Version:        0.1.0
Release:        1
Summary:        A logbook for PC tuners: one change at a time, tested, measured and written down
License:        Apache-2.0
Source0:        yondle-%{version}.tar.gz
AutoReqProv:    no
Requires:       python(abi) = %{minor}
Requires:       libglvnd-egl, libglvnd-glx, libxkbcommon-x11, dbus-libs, fontconfig
Requires:       xcb-util-cursor, xcb-util-image, xcb-util-keysyms, xcb-util-renderutil, xcb-util-wm
Recommends:     yondle-helper, shared-mime-info, desktop-file-utils

%description
You change one setting of a PC, Yondle tests it, tells a gain from noise, writes everything down, and puts the machine back when
the setting fails.

%package helper
Summary:        Sets for Yondle what only root may set, and puts it back
BuildArch:      noarch
AutoReqProv:    no
Requires:       python3 >= 3.11
Recommends:     polkit

%description helper
A small program that runs as root after an administrator's word: it sets clocks, limits and switches within the kernel's ranges,
and puts them back. Standard library only.

%prep
%setup -q

%build
PYTHON=%{__python3} tools/gather.sh "$PWD/laid-out"

%install
mkdir -p %{buildroot}
cp -r laid-out/yondle/. laid-out/yondle-helper/. %{buildroot}/
%{__python3} -m compileall -q -s %{buildroot} %{buildroot}/usr/lib/yondle || :

%files
/usr/bin/yondle
/usr/lib/yondle
/usr/share/applications/*
/usr/share/bash-completion/completions/yondle
/usr/share/doc/yondle
/usr/share/fish/vendor_completions.d/yondle.fish
/usr/share/icons/hicolor/*/*/*
/usr/share/man/man1/yondle.1.gz
/usr/share/man/de/man1/yondle.1.gz
/usr/share/metainfo/*
/usr/share/mime/packages/*
/usr/share/zsh/site-functions/_yondle

%post helper
if [ -d /run/systemd/system ]; then systemctl daemon-reload; systemctl try-restart yondle-keep.service || :; fi

%preun helper
if [ "$1" = 0 ] && [ -d /run/systemd/system ]; then systemctl disable --quiet --now yondle-keep.service yondle-night.service || :; fi

%postun helper
if [ "$1" = 0 ]; then rm -rf /run/yondle-helper /var/lib/yondle; fi

%files helper
/usr/lib/systemd/system/yondle-keep.service
/usr/lib/systemd/system/yondle-night.service
/usr/lib/yondle-helper
/usr/libexec/yondle-helper
/usr/libexec/yondle-keep
/usr/share/doc/yondle-helper
/usr/share/polkit-1/actions/net.yondle.packaged-helper.policy
