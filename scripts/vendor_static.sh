#!/bin/sh
# Bring the shipped styles, scripts and fonts from the npm registry into the application's static files.
# Run by hand when a version below changes; the result is committed, so that nothing is fetched at run time.
set -eu
cd "$(dirname "$0")/.."
target="$PWD/greyanchor/web/static/vendor"
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
(cd "$work" && npm init -y >/dev/null && npm install --ignore-scripts --silent \
  htmx.org@2.0.11 bootstrap@5.3.9 @ibm/plex-sans@1.1.0 @ibm/plex-mono@2.5.0 three@0.180.0)
modules="$work/node_modules"
mkdir -p "$target/fonts"
cp "$modules/htmx.org/dist/htmx.min.js" "$target/htmx.min.js"
cp "$modules/htmx.org/LICENSE" "$target/LICENSE.htmx"
cp "$modules/bootstrap/dist/css/bootstrap.min.css" "$target/bootstrap.min.css"
sed -i '/sourceMappingURL/d' "$target/bootstrap.min.css" "$target/htmx.min.js"
cp "$modules/bootstrap/LICENSE" "$target/LICENSE.bootstrap"
mkdir -p "$target/three"
cp "$modules/three/build/three.module.min.js" "$modules/three/build/three.core.min.js" "$target/three/"
cp "$modules/three/examples/jsm/controls/OrbitControls.js" "$target/three/"
cp "$modules/three/examples/jsm/renderers/SVGRenderer.js" "$target/three/"
cp "$modules/three/examples/jsm/renderers/Projector.js" "$target/three/"
sed -i "s#'\.\./renderers/Projector.js'#'./Projector.js'#" "$target/three/SVGRenderer.js"
# no import map and no style attributes: the policy of our pages allows neither
sed -i "s#from 'three'#from './three.module.min.js'#" "$target/three/"*.js
sed -i "s#_svgNode.setAttribute( 'style', _currentStyle )#_svgNode.style.cssText = _currentStyle#" \
  "$target/three/SVGRenderer.js"
cp "$modules/three/LICENSE" "$target/three/LICENSE"
for weight in Regular SemiBold; do
  cp "$modules/@ibm/plex-sans/fonts/split/woff2/IBMPlexSans-$weight-Latin1.woff2" "$target/fonts/"
  cp "$modules/@ibm/plex-mono/fonts/split/woff2/IBMPlexMono-$weight-Latin1.woff2" "$target/fonts/"
done
cp "$modules/@ibm/plex-sans/LICENSE.txt" "$target/fonts/LICENSE.plex"
# the same faces for PDF, which embeds TrueType
fonts="$PWD/greyanchor/drawing/fonts"
mkdir -p "$fonts"
python3 -m venv "$work/venv" && "$work/venv/bin/pip" install -q fonttools brotli
for face in Sans-Regular Sans-SemiBold Mono-Regular; do
  "$work/venv/bin/python" -c "
import sys
from fontTools.ttLib import TTFont
font = TTFont(sys.argv[1]); font.flavor = None; font.save(sys.argv[2])
" "$target/fonts/IBMPlex$face-Latin1.woff2" "$fonts/IBMPlex$face.ttf"
done
cp "$modules/@ibm/plex-sans/LICENSE.txt" "$fonts/LICENSE.plex"
