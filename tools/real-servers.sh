#!/bin/sh
# Installs the name servers, and the broker, that the tests run against, from Debian's packages. Without root, or without apt, it says so,
# and the tests that need one are skipped. Their services are kept from starting: the tests start their own.
set -eu
missing=""
for pair in nsd:nsd mosquitto:mosquitto knotd:knot named:bind9 unbound:unbound pdns_server:pdns-server kea-dhcp4:kea-dhcp4-server kea-dhcp6:kea-dhcp6-server; do
    PATH="$PATH:/usr/sbin" command -v "${pair%%:*}" >/dev/null 2>&1 || missing="$missing ${pair##*:}"
done
case "$missing" in *pdns-server*) missing="$missing pdns-backend-bind" ;; esac
[ -e /usr/share/pdns-backend-sqlite3 ] || missing="$missing pdns-backend-sqlite3" # zones that can be changed
command -v chromium >/dev/null 2>&1 || missing="$missing chromium" # drives the HTML report's filter in one test
[ -e /usr/include/ldap.h ] || missing="$missing libldap-dev" # for the extra that reads directories
[ -e /usr/include/sasl/sasl.h ] || missing="$missing libsasl2-dev"
[ -e /usr/include/krb5.h ] || missing="$missing libkrb5-dev"
command -v ip >/dev/null 2>&1 || [ -e /usr/sbin/ip ] || missing="$missing iproute2" # networks of their own for vantages
command -v faketime >/dev/null 2>&1 || missing="$missing faketime" # a clock that stands still
command -v cron >/dev/null 2>&1 || [ -e /usr/sbin/cron ] || missing="$missing cron" # what schedule installs is run by it
command -v systemd-analyze >/dev/null 2>&1 || missing="$missing systemd"
for shell in zsh fish; do command -v "$shell" >/dev/null 2>&1 || missing="$missing $shell"; done # complete hostile names in one test
[ -n "$missing" ] || exit 0
# shellcheck disable=SC2086
exec sh "$(dirname "$0")/debian.sh" "Tests that need one are skipped; as root, on Debian, make test installs them." $missing
