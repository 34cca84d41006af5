#!/bin/sh
# Installs the Debian packages that are missing. Needs root or sudo only when one is. "setup.sh test" installs the browser
# that tests drive and the services that they speak to as well; these are not started, and a test whose service cannot be had says so and is skipped.
set -eu

command -v go >/dev/null || { echo "Go is missing. Dorfbote needs Go 1.26 or later; install it and try again." >&2; exit 1; }
command -v npm >/dev/null || { echo "Node.js with npm is missing. Dorfbote needs Node 20 or later; install it and try again." >&2; exit 1; }

has() { command -v "$1" >/dev/null 2>&1 || [ -x "/usr/sbin/$1" ]; }

missing=""
ls /usr/lib/postgresql/*/bin/postgres >/dev/null 2>&1 || missing="$missing postgresql"
peers=""
if [ "${1:-}" = test ]; then
	has chromium || missing="$missing chromium"
	has mariadbd || peers="$peers mariadb-server"
	has prosody || peers="$peers prosody"
	has dovecot || peers="$peers dovecot-imapd dovecot-lmtpd"
	has postfix || peers="$peers postfix"
	has radicale || peers="$peers radicale"
	has nginx || peers="$peers nginx-light"
	has gcc || peers="$peers gcc libc6-dev"
fi
[ -z "$missing$peers" ] && exit 0

# Without a way to install, the peers of tests can be done without; the rest cannot.
cannot() {
	[ -n "$peers" ] && echo "Tests against these are skipped, since they cannot be installed:$peers" >&2
	[ -z "$missing" ] && exit 0
	echo "$1:$missing" >&2
	exit 1
}

command -v apt-get >/dev/null || cannot "These programs are missing and there is no apt-get to install them with"
sudo=""
if [ "$(id -u)" -ne 0 ]; then
	sudo="sudo -n"
	sudo -n true 2>/dev/null || cannot "These packages are missing; install them with sudo apt-get install"
fi
echo "Installing$missing$peers ..."
# A folder of its own, since the common one may be swept while the packages are unpacked.
cache=$(mktemp -d)
mkdir -p "$cache/partial"
# Services for tests are not to be started by being installed.
policy=/usr/sbin/policy-rc.d
made=""
if [ -n "$peers" ] && [ ! -e "$policy" ]; then
	printf '#!/bin/sh\nexit 101\n' | $sudo tee "$policy" >/dev/null
	$sudo chmod 755 "$policy"
	made=yes
fi
cleanup() {
	rm -rf "$cache"
	if [ -n "$made" ]; then $sudo rm -f "$policy"; fi
}
trap cleanup EXIT
install() {
	DEBIAN_FRONTEND=noninteractive $sudo apt-get install -y -qq --no-install-recommends -o Dir::Cache::archives="$cache" "$@" >"$cache/log" 2>&1
}
$sudo apt-get update -qq || cannot "The list of packages cannot be had, and these are missing"
if [ -n "$missing" ]; then
	# shellcheck disable=SC2086
	install $missing || { cat "$cache/log" >&2; exit 1; }
fi
for p in $peers; do
	install "$p" || echo "$p cannot be installed; the tests that speak to it are skipped." >&2
done
