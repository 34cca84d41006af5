#!/bin/sh
# Makes a Debian package of bin/dorfbote in dist/. Needs dpkg-deb, which every Debian has; nothing is installed.
set -eu
cd "$(dirname "$0")/.."
command -v dpkg-deb >/dev/null || { echo "dpkg-deb is missing: a Debian package is made on Debian, or with the package dpkg." >&2; exit 1; }
version=${VERSION:-$(git describe --tags --match 'v[0-9]*' 2>/dev/null | sed 's/^v//' || true)}
[ -n "$version" ] || version="0.$(git rev-list --count HEAD 2>/dev/null || echo 0)"
arch=$(dpkg --print-architecture)
root=$(mktemp -d)
trap 'rm -rf "$root"' EXIT
chmod 755 "$root"
install -D -m 755 bin/dorfbote "$root/usr/bin/dorfbote"
install -D -m 644 -t "$root/lib/systemd/system" packaging/dorfbote@.service packaging/dorfbote-migrate.service
install -D -m 640 packaging/dorfbote.env "$root/etc/dorfbote/dorfbote.env"
install -D -m 644 -t "$root/usr/share/doc/dorfbote" README.md CHANGELOG.md NOTICE docs/architecture.md docs/formats.md docs/schema/sheet.schema.json
install -D -m 644 LICENSE "$root/usr/share/doc/dorfbote/copyright"
install -d "$root/DEBIAN"
install -m 755 -t "$root/DEBIAN" packaging/postinst packaging/prerm packaging/postrm
echo /etc/dorfbote/dorfbote.env >"$root/DEBIAN/conffiles"
cat >"$root/DEBIAN/control" <<CONTROL
Package: dorfbote
Version: $version
Architecture: $arch
Maintainer: The Dorfbote founders <founders@dorfbote.example>
Section: net
Priority: optional
Installed-Size: $(du -sk "$root" | cut -f1)
Depends: adduser, ca-certificates, libc6
Recommends: postgresql
Description: watches business apps and tells the right people in chat
 Event-driven workflows that watch business apps for new records and changes,
 filter and route them by conditions, and post formatted alerts to the channels
 of a team chat. Any number of web servers and workers share one PostgreSQL.
CONTROL
mkdir -p dist
out="dist/dorfbote_${version}_${arch}.deb"
dpkg-deb --root-owner-group --build "$root" "$out" >/dev/null
echo "$out"
