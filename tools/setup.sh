#!/bin/sh
# Installs the Debian packages that are missing. Needs root or sudo only when one is.
set -eu

command -v go >/dev/null || { echo "Go is missing. Dorfbote needs Go 1.26 or later; install it and try again." >&2; exit 1; }
command -v npm >/dev/null || { echo "Node.js with npm is missing. Dorfbote needs Node 20 or later; install it and try again." >&2; exit 1; }

missing=""
ls /usr/lib/postgresql/*/bin/postgres >/dev/null 2>&1 || missing="$missing postgresql"
command -v chromium >/dev/null 2>&1 || missing="$missing chromium"
[ -z "$missing" ] && exit 0

if ! command -v apt-get >/dev/null; then
	echo "These programs are missing and there is no apt-get to install them with:$missing" >&2
	exit 1
fi
sudo=""
if [ "$(id -u)" -ne 0 ]; then
	sudo="sudo -n"
	if ! sudo -n true 2>/dev/null; then
		echo "These packages are missing:$missing. Install them with: sudo apt-get install$missing" >&2
		exit 1
	fi
fi
echo "Installing$missing ..."
# A folder of its own, since the common one may be swept while the packages are unpacked.
cache=$(mktemp -d)
mkdir -p "$cache/partial"
trap 'rm -rf "$cache"' EXIT
$sudo apt-get update -qq
DEBIAN_FRONTEND=noninteractive $sudo apt-get install -y -qq --no-install-recommends -o Dir::Cache::archives="$cache" $missing >"$cache/log" 2>&1 || {
	cat "$cache/log" >&2
	exit 1
}
