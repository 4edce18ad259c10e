#!/bin/sh
# Install what tools/system-packages.txt lists: by apt-get when root and missing, otherwise say the exact command.
set -eu
list=$(dirname "$0")/system-packages.txt
missing=
for package in $(grep -v '^#' "$list"); do
    state=$(dpkg-query -W -f '${db:Status-Status}' "$package" 2>/dev/null || true)
    [ "$state" = installed ] || missing="$missing $package"
done
[ -n "$missing" ] || exit 0
if command -v apt-get >/dev/null 2>&1 && [ "$(id -u)" = 0 ]; then
    echo "installing for the tests:$missing"
    # The server is needed as a program only: it must not start listening on this machine.
    policy=/usr/sbin/policy-rc.d
    if [ ! -e "$policy" ]; then
        printf '#!/bin/sh\nexit 101\n' >"$policy"
        chmod 755 "$policy"
        trap 'rm -f "$policy"' EXIT
    fi
    apt-get update -qq
    # shellcheck disable=SC2086
    DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $missing >/dev/null
else
    echo "missing for the tests:$missing"
    echo "install them with: sudo apt-get install --no-install-recommends$missing"
    echo "until then, the tests that need them are skipped and say so"
fi
