#!/usr/bin/env bash
# Programs that tests talk to, unpacked beside what is built and not installed: none of them is to run on this machine by itself.
#   peers.sh FOLDER
set -euo pipefail

folder=$1
"$(dirname "$0")/need-packages.sh" ssh-keygen=openssh-client
packages=(openssh-server libwrap0 libnsl2 libtirpc3 tinyproxy-bin microsocks)
[ -e "$folder/usr/sbin/sshd" ] && [ -e "$folder/usr/bin/tinyproxy" ] && [ -e "$folder/usr/bin/microsocks" ] && exit 0
echo "Unpacking for tests: ${packages[*]}"
mkdir -p "$(dirname "$folder")"
room=$(mktemp -d "$folder-XXXXXX")
trap 'rm -rf "$room"' EXIT
mkdir "$room/packages" "$room/root"
as_root=()
[ "$(id -u)" -eq 0 ] || as_root=(sudo)
# what the machine knows of its packages may be old, or nothing
(cd "$room/packages" && { apt-get download -q "${packages[@]}" || { "${as_root[@]}" apt-get update -q && apt-get download -q "${packages[@]}"; }; })
for package in "$room"/packages/*.deb; do dpkg-deb -x "$package" "$room/root"; done
# several may come here at a time; whoever is first, all have the same
chmod -R u+w,a+rX "$room/root"
rm -rf "$folder.old"
[ ! -e "$folder" ] || mv "$folder" "$folder.old"
mv -T "$room/root" "$folder" 2>/dev/null || [ -e "$folder/usr/sbin/sshd" ]
rm -rf "$folder.old"
