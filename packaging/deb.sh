#!/bin/sh
# Builds the Debian package of a built program: deb.sh PROGRAM FOLDER
set -eu
program=$1 out=$2
here=$(dirname "$0")
version=$("$program" --version)
arch=$(dpkg --print-architecture)
root=$(mktemp -d)
trap 'rm -rf "$root"' EXIT
chmod 755 "$root"
install -D -m 755 "$program" "$root/usr/bin/steady-compass"
install -D -m 644 -t "$root/lib/systemd/system" "$here"/*.service "$here"/*.timer
install -D -m 644 "$here/sysusers.conf" "$root/usr/lib/sysusers.d/steady-compass.conf"
install -D -m 644 "$here/default" "$root/etc/default/steady-compass"
install -D -m 644 "$here/../LICENSE" "$root/usr/share/doc/steady-compass/copyright"
install -D -m 755 -t "$root/DEBIAN" "$here/postinst" "$here/prerm" "$here/postrm"
echo /etc/default/steady-compass >"$root/DEBIAN/conffiles"
cat >"$root/DEBIAN/control" <<CONTROL
Package: steady-compass
Version: $version
Architecture: $arch
Maintainer: Steady Compass <steady-compass@example.org>
Section: net
Priority: optional
Installed-Size: $(du -sk "$root" | cut -f1)
Recommends: ca-certificates
Suggests: nftables
Description: traces public names to their backends
 A hosting administrator records DNS records, port forwards, firewall rules,
 container mappings and listeners; each public name is then followed to where
 it ends, and conflicts, gaps and unintended exposure are found.
CONTROL
mkdir -p "$out"
dpkg-deb -Zzstd --root-owner-group --build "$root" "$out/steady-compass_${version}_$arch.deb"
