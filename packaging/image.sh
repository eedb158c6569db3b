#!/bin/sh
# Makes an OCI image from bin/package/root: image.sh FOLDER VERSION
set -e
folder=$1 version=$2
store=$(mktemp -d)
trap 'rm -rf "$store"' EXIT
# The program, the certificates that it believes, and two folders that its user may write: nothing else is in the image.
fixed="--sort=name --mtime=@$SOURCE_DATE_EPOCH --numeric-owner"
tar $fixed --owner=0 --group=0 -C "$folder/root" -cf "$folder/layer.tar" usr etc
tar $fixed --owner=0 --group=0 --mode=1777 --no-recursion -C "$folder/root" -rf "$folder/layer.tar" tmp
tar $fixed --owner=65532 --group=65532 --mode=0700 --no-recursion -C "$folder/root" -rf "$folder/layer.tar" var/lib/innergate
b="buildah --root $store/root --runroot $store/run --storage-driver vfs"
$b build --quiet --isolation chroot --timestamp "$SOURCE_DATE_EPOCH" --label org.opencontainers.image.version="$version" \
	--tag innergate:"$version" --file packaging/Containerfile "$folder" >/dev/null
$b push --quiet innergate:"$version" oci:"$store/oci":innergate:"$version" >/dev/null
rm "$folder/layer.tar"
tar $fixed --owner=0 --group=0 -C "$store/oci" -cf "$folder/innergate-$version.oci.tar" .
