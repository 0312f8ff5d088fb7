#!/bin/sh
# Installs Debian's packages, and keeps their services from starting: debian.sh "what to say where it cannot" PACKAGE...
set -eu
otherwise=$1
shift
if [ "$(id -u)" != 0 ] || ! command -v apt-get >/dev/null 2>&1; then
    echo "not installed: $*. $otherwise"
    exit 0
fi
policy=/usr/sbin/policy-rc.d
if [ ! -e "$policy" ]; then
    printf '#!/bin/sh\nexit 101\n' > "$policy"
    chmod +x "$policy"
    trap 'rm -f "$policy"' EXIT
fi
echo "installing: $*"
apt-get update -qq
DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends "$@" >/dev/null
