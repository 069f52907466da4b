#!/bin/sh
# Leaves what a service of this version leaves when it is killed in the middle of its work, for the test that later versions go on from there:
# a job that is done, one that was writing, and one that waits to move a disk. It takes root, since paths in the records are those of /srv/isola.
set -eu
version=${1:?usage: packaging/state.sh VERSION}
out=$(pwd)/test/service/testdata/state-$version.tar.zst
bagaglio=$(pwd)/bin/bagaglio
at=/srv/isola
[ ! -e $at ] || { echo "$at is there already: move it away"; exit 1; }
trap 'rm -rf $at' EXIT
mkdir -p $at/quay $at/light
for name in roster cargo ticket; do
	yes "Isola Ferries $name $version" | head -c 2097152 > $at/quay/$name.raw
	truncate -s 8M $at/quay/$name.raw
done
export BAGAGLIO_STATE=$at/state
$bagaglio serve --listen 127.0.0.1:0 > /dev/null 2>&1 &
service=$!
until $bagaglio pool list > /dev/null 2>&1; do sleep 0.1; done
$bagaglio pool add quay $at/quay > /dev/null
$bagaglio pool add light $at/light > /dev/null
$bagaglio convert quay:roster.raw light:roster.qcow2 > /dev/null 2>&1
$bagaglio convert quay:cargo.raw light:cargo.qcow2 --speed 300K --detach > /dev/null
$bagaglio move quay:ticket.raw light: --hours 03:00-03:01 --detach > /dev/null
until $bagaglio job show 2 --json | grep -q '"done": *[1-9]'; do sleep 0.1; done
kill -9 $service
wait $service 2> /dev/null || true
tar --zstd --owner=0 --group=0 --sparse -C $at -cf "$out" .
ls -l "$out"
