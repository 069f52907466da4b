#!/bin/sh
# Makes what is given away, in dist/: archives, packages, checksums and a list of what is in it. What comes of a commit is the same each time.
set -eu
go=${GO:-go}
version=$(git describe --tags --always --dirty 2>/dev/null || echo development)
SOURCE_DATE_EPOCH=$(git log -1 --format=%ct 2>/dev/null || echo 0)
export SOURCE_DATE_EPOCH CGO_ENABLED=0
# A package is of a version that begins with a digit; what has no tag yet comes before the first one.
case $version in
v[0-9]*) VERSION=${version#v} ;;
*) VERSION=0.0.0-$version ;;
esac
export VERSION
rm -rf dist
mkdir -p dist
stage=$(mktemp -d)
trap 'rm -rf "$stage"' EXIT
mkdir -p "$stage/man" "$stage/completions"
"$go" run ./cmd/manual "$stage/man" "$version" "$SOURCE_DATE_EPOCH"
gzip -9n "$stage"/man/*.1
host=$("$go" env GOHOSTARCH)
for ARCH in amd64 arm64; do
	export ARCH STAGE="$stage/$ARCH"
	name=bagaglio_${VERSION}_linux_$ARCH
	mkdir -p "$STAGE/$name"
	GOOS=linux GOARCH=$ARCH "$go" build -tags nomsgpack -trimpath -buildvcs=false -ldflags "-s -w -X main.version=$version" -o "$STAGE/bagaglio" ./cmd/bagaglio
	if [ "$ARCH" = "$host" ]; then
		for shell in bash zsh fish; do "$STAGE/bagaglio" completion $shell > "$stage/completions/bagaglio.$shell"; done
	fi
	cp -r "$stage/man" "$stage/completions" "$STAGE/"
	cp -r "$STAGE/bagaglio" "$STAGE/man" "$STAGE/completions" README.md CHANGELOG.md LICENSE packaging/bagaglio.service "$STAGE/$name/"
	tar --sort=name --mtime="@$SOURCE_DATE_EPOCH" --owner=0 --group=0 --numeric-owner --mode=u=rwX,go=rX -C "$STAGE" -cf - "$name" | gzip -9n > "dist/$name.tar.gz"
	sed -e "s|\${STAGE}|$STAGE|" packaging/nfpm.yaml > "$stage/nfpm.yaml"
	for kind in deb rpm; do
		"$go" tool -modfile=dist.mod nfpm package --config "$stage/nfpm.yaml" --packager $kind --target dist/ > /dev/null
	done
	"$go" run -tags dist -modfile=dist.mod ./packaging/image -binary "$STAGE/bagaglio" -arch "$ARCH" -version "$VERSION" \
		-made "$SOURCE_DATE_EPOCH" -out "dist/bagaglio_${VERSION}_image_$ARCH.tar"
	gzip -9n "dist/bagaglio_${VERSION}_image_$ARCH.tar"
done
# The client alone, for systems that the service does not run on.
for on in darwin/arm64 darwin/amd64 windows/amd64; do
	name=bagaglio-client_${VERSION}_${on%/*}_${on#*/}
	mkdir -p "$stage/$name"
	program=bagaglio
	if [ "${on%/*}" = windows ]; then program=bagaglio.exe; fi
	GOOS=${on%/*} GOARCH=${on#*/} "$go" build -tags nomsgpack -trimpath -buildvcs=false -ldflags "-s -w -X main.version=$version" -o "$stage/$name/$program" ./cmd/bagaglio
	cp README.md CHANGELOG.md LICENSE "$stage/$name/"
	tar --sort=name --mtime="@$SOURCE_DATE_EPOCH" --owner=0 --group=0 --numeric-owner --mode=u=rwX,go=rX -C "$stage" -cf - "$name" | gzip -9n > "dist/$name.tar.gz"
done
GOOS=linux GOARCH=amd64 "$go" tool -modfile=dist.mod cyclonedx-gomod app -json -licenses -noserial -output dist/bagaglio.cdx.json -main cmd/bagaglio . 2> /dev/null
day=$(date -u -d "@$SOURCE_DATE_EPOCH" +%Y-%m-%dT%H:%M:%SZ) # it says when it was made, which is another time each time
sed -i "s|\"timestamp\": \"[^\"]*\"|\"timestamp\": \"$day\"|" dist/bagaglio.cdx.json
(cd dist && sha256sum -- * > SHA256SUMS)
ls -l dist
