#!/usr/bin/env bash
# Names what the program is built of, each with its licence in full: Go modules, and what the console is made with.
set -euo pipefail
cd "$(dirname "$0")/.."
licences() { find "$1" -maxdepth 1 -type f \( -iname 'licen[sc]e*' -o -iname 'copying*' -o -iname 'notice*' \) | sort; }
entry() { # of a name and a folder
  printf '\n==== %s\n\n' "$1"
  local files
  files=$(licences "$2")
  if [ -n "$files" ]; then
    echo "$files" | tr '\n' '\0' | xargs -0 cat
  elif [ -f "$2/package.json" ]; then
    node -p "require('$2/package.json').license"
  else
    echo "no licence lies in $2" >&2
    exit 1
  fi
}
{
  echo "Sentier is built of the following, each under its own licence."
  entry "Go" "$(go env GOROOT)"
  go list -deps -f '{{with .Module}}{{if not .Main}}{{.Path}} {{.Version}}{{"\t"}}{{.Dir}}{{end}}{{end}}' ./cmd/sentier | sort -u | while IFS=$'\t' read -r name dir; do
    [ -z "$name" ] || entry "$name" "$dir"
  done
  (cd web && npm ls --omit=dev --all --parseable 2>/dev/null | tail -n +2 | sort -u) | while read -r dir; do
    entry "${dir##*node_modules/} $(node -p "require('$dir/package.json').version")" "$dir"
  done
} > "$1"
