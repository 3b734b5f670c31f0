#!/usr/bin/env bash
# Installs the Debian packages that are missing among those named: as root, or through sudo.
#   need-packages.sh PROGRAM=PACKAGES...   PROGRAM is a path or a name on PATH (a glob is allowed in a path)
set -euo pipefail

missing=()
for pair in "$@"; do
  program=${pair%%=*}
  package=${pair#*=}
  # shellcheck disable=SC2086  # the program may be a glob
  if ! command -v "$program" >/dev/null 2>&1 && ! ls $program >/dev/null 2>&1; then
    # shellcheck disable=SC2206  # one program may come of several packages
    missing+=($package)
  fi
done
[ ${#missing[@]} -gt 0 ] || exit 0

as_root=()
if [ "$(id -u)" -ne 0 ]; then
  if ! command -v sudo >/dev/null 2>&1; then
    echo "Missing Debian packages: ${missing[*]}. Install them as root: apt-get install ${missing[*]}" >&2
    exit 1
  fi
  as_root=(sudo)
fi
if ! command -v apt-get >/dev/null 2>&1; then
  echo "Missing: ${missing[*]} (Debian's names). This is no Debian: install what your system calls them." >&2
  exit 1
fi
echo "Installing Debian packages: ${missing[*]}"
case " ${missing[*]} " in
  *" postgresql"*)
    # Gonvel makes clusters of its own: the package need not make and start one
    if [ ! -e /etc/postgresql-common/createcluster.conf ]; then
      "${as_root[@]}" mkdir -p /etc/postgresql-common
      echo "create_main_cluster = false" | "${as_root[@]}" tee /etc/postgresql-common/createcluster.conf >/dev/null
    fi
    ;;
esac
install=(env DEBIAN_FRONTEND=noninteractive apt-get install -y -q --no-install-recommends -o Dpkg::Options::=--force-confold)
"${as_root[@]}" apt-get update -q
# a mirror that stumbles once is common enough for one more try
"${as_root[@]}" "${install[@]}" "${missing[@]}" || "${as_root[@]}" "${install[@]}" "${missing[@]}"
