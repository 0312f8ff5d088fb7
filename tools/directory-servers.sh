#!/bin/sh
# Installs the directory server that `make directory` runs against, from Debian's packages, without starting any service.
set -eu
packages="samba samba-ad-dc samba-dsdb-modules samba-vfs-modules samba-ad-provision winbind ldb-tools python3-samba krb5-user
libsasl2-modules-gssapi-mit libldap-dev libsasl2-dev libkrb5-dev iproute2 faketime"
missing=""
for one in $packages; do
    dpkg-query -W -f='${Status}' "$one" 2>/dev/null | grep -q "install ok" || missing="$missing $one"
done
[ -n "$missing" ] || exit 0
# shellcheck disable=SC2086
exec sh "$(dirname "$0")/debian.sh" "As root, on Debian, make directory installs them." $missing
