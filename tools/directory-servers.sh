#!/bin/sh
# Installs the directory server that `make directory` runs against, from Debian's packages, without starting any service.
set -eu
packages="samba samba-ad-dc samba-dsdb-modules samba-vfs-modules samba-ad-provision winbind python3-samba krb5-user
libsasl2-modules-gssapi-mit libldap-dev libsasl2-dev libkrb5-dev iproute2 faketime"
missing=""
for one in $packages; do
    dpkg-query -W -f='${Status}' "$one" 2>/dev/null | grep -q "install ok" || missing="$missing $one"
done
[ -n "$missing" ] || exit 0
if [ "$(id -u)" != 0 ] || ! command -v apt-get >/dev/null 2>&1; then
    echo "not installed:$missing. As root, on Debian, make directory installs them."
    exit 0
fi
policy=/usr/sbin/policy-rc.d
if [ ! -e "$policy" ]; then
    printf '#!/bin/sh\nexit 101\n' > "$policy"
    chmod +x "$policy"
    trap 'rm -f "$policy"' EXIT
fi
echo "installing:$missing"
apt-get update -qq
DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $missing >/dev/null
