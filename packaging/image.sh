#!/bin/sh
# Builds the container image of a built program: image.sh PROGRAM NAME
set -eu
program=$1 name=$2
here=$(dirname "$0")
context=$(mktemp -d)
trap 'rm -rf "$context"' EXIT
mkdir -p "$context/root/etc/ssl/certs" "$context/root/tmp" "$context/root/data"
cp "$program" "$context/root/steady-compass"
cp "$here/Containerfile" "$context/Containerfile"
if [ -f /etc/ssl/certs/ca-certificates.crt ]; then # whom it trusts when somebody signs in elsewhere, or looks
	cp /etc/ssl/certs/ca-certificates.crt "$context/root/etc/ssl/certs/"
fi
chmod 1777 "$context/root/tmp"
chown 65532:65532 "$context/root/data" 2>/dev/null || chmod 1777 "$context/root/data"
${ENGINE:-podman} build --pull=never --tag "$name" "$context"
