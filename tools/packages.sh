#!/bin/sh
# Installs Debian packages for the tools that are missing, as root; elsewhere it says what is missing, and goes on.
#
#   packages.sh COMMAND:PACKAGE...     :PACKAGE is wanted if Python cannot make virtual environments (python3-venv)
#                                      or if no DejaVu font is there (fonts-dejavu-core)
#
# Service starts are blocked while packages are installed: nothing may start on the user's real network.
set -eu
PATH="$PATH:/usr/sbin:/sbin"

missing=""
for pair in "$@"; do
  command=${pair%%:*} package=${pair#*:}
  case $package in
    python3-venv)
      # The system's own Python, too, where there is another: a test installs by README's words with it.
      python3 -c 'import ensurepip' 2>/dev/null || { missing="$missing $package"; continue; }
      [ ! -x /usr/bin/python3 ] || /usr/bin/python3 -c 'import ensurepip' 2>/dev/null && continue ;;
    fonts-dejavu-core) fc-list 2>/dev/null | grep -q DejaVu && continue ;;
    *) command -v "$command" >/dev/null 2>&1 && continue ;;
  esac
  missing="$missing $package"
done
[ -n "$missing" ] || exit 0

if [ "$(id -u)" != 0 ] || ! command -v apt-get >/dev/null 2>&1; then
  echo "missing:$missing (as root on Debian they would be installed now)" >&2
  exit 0
fi

policy=/usr/sbin/policy-rc.d
if [ ! -e $policy ]; then
  trap 'rm -f $policy' EXIT
  printf '#!/bin/sh\nexit 101\n' >$policy
  chmod 755 $policy
fi
echo "installing:$missing" >&2
apt-get update -qq
# shellcheck disable=SC2086 - a list of words
DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $missing >/dev/null
