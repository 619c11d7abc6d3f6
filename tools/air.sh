#!/bin/sh
# Fetches what the lab with real radios boots, and unpacks it; nothing of it is installed: Debian's kernel with its simulated
# radios, a busybox that needs no library, and the rules of the air by country.
#
#   air.sh FOLDER      afterwards FOLDER has boot/, lib/modules/ and the others; made once, and again for a newer kernel
#
# As root on Debian; elsewhere it says what is missing, and goes on: the tests are skipped then.
set -eu
PATH="$PATH:/usr/sbin:/sbin"
folder=$1

if [ "$(id -u)" != 0 ] || ! command -v apt-get >/dev/null 2>&1 || [ "$(uname -m)" != x86_64 ]; then
  echo "missing: a kernel for the lab with real radios (as root on Debian, x86-64, it would be unpacked now)" >&2
  exit 0
fi
newest() { apt-cache depends linux-image-amd64 2>/dev/null | sed -n 's/^ *Depends: //p' | head -n 1; }
kernel=$(newest)
[ -n "$kernel" ] || { apt-get update -qq; kernel=$(newest); }
[ ! -e "$folder/$kernel" ] || exit 0

echo "unpacking: $kernel" >&2
draft=$folder.new
rm -rf "$draft"
mkdir -p "$draft/packages"
fetch() { (cd "$draft/packages" && apt-get download -qq -o APT::Sandbox::User=root "$@" >/dev/null); }
# The lists of an older day may name packages that have been replaced since.
fetch "$kernel" busybox-static wireless-regdb || { apt-get update -qq; kernel=$(newest); fetch "$kernel" busybox-static wireless-regdb; }
set -- './boot/vmlinuz*' './lib/modules/*/modules.*'
for each in net fs/9p fs/netfs fs/fscache fs/overlayfs lib crypto arch drivers/virtio drivers/char/virtio_console.ko drivers/net/virtio_net.ko \
  drivers/net/net_failover.ko drivers/net/veth.ko drivers/net/wireless/mac80211_hwsim.ko; do
  set -- "$@" "./lib/modules/*/kernel/$each"
done
for each in "$draft"/packages/*.deb; do
  case $each in
    */linux-image-*) dpkg-deb --fsys-tarfile "$each" | tar x -C "$draft" --wildcards "$@" ;;
    *) dpkg-deb -x "$each" "$draft" ;;
  esac
done
rm -r "$draft/packages"
depmod -b "$draft" "$(ls "$draft/lib/modules")"
touch "$draft/$kernel"
rm -rf "$folder"
mv "$draft" "$folder"
