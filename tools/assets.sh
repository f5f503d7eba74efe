#!/bin/sh
# Builds the committed assets from their sources into the folder named.
set -eu
cd "$(dirname "$0")"
out=$1
./setup.sh node >&2
mkdir -p "$out/fonts"
node_modules/.bin/tailwindcss --minify -i ../internal/web/assets/src/app.css -o "$out/app.css"
node_modules/.bin/esbuild ../internal/web/assets/src/app.js --bundle --format=iife --target=es2022 --log-level=warning --outfile="$out/app.js"
NODE_PATH="$PWD/node_modules" node_modules/.bin/esbuild ../internal/web/assets/src/code.js --bundle --minify --format=esm --target=es2022 --log-level=warning --outfile="$out/code.js"
cp ../internal/web/assets/src/icon.svg "$out/icon.svg"
cp node_modules/htmx.org/dist/htmx.min.js "$out/htmx.js"
for set in latin latin-ext; do
  cp "node_modules/@fontsource-variable/atkinson-hyperlegible-next/files/atkinson-hyperlegible-next-$set-wght-normal.woff2" "$out/fonts/next-$set.woff2"
  cp "node_modules/@fontsource-variable/atkinson-hyperlegible-mono/files/atkinson-hyperlegible-mono-$set-wght-normal.woff2" "$out/fonts/mono-$set.woff2"
done
