#!/usr/bin/env bash
# Lets `retrieve` read a RESTCONF server by others (PyPI; HTTP/2 alone, certificates on both sides, a draft media type).
#
#     foreign-server.sh ZARNET DOCUMENT.json
#
# Exit status 0 if what was retrieved is the document, exported again.
set -euo pipefail
zarnet=$(realpath "$1") document=$(realpath "$2")
here=$(cd "$(dirname "$0")" && pwd)
work=$(mktemp -d)
server=
trap 'test -z "$server" || kill "$server" 2>/dev/null; rm -rf "$work"' EXIT
cd "$work"

# an authority, a server and somebody who asks
certificate() { # NAME SUBJECT EXTENSION
    openssl req -newkey rsa:2048 -nodes -keyout "$1.key" -out "$1.csr" -subj "$2" 2>/dev/null
    openssl x509 -req -in "$1.csr" -CA ca.pem -CAkey ca.key -CAcreateserial -days 2 -out "$1.crt" -extfile <(echo "$3") 2>/dev/null
}
openssl req -x509 -newkey rsa:2048 -nodes -keyout ca.key -out ca.pem -days 2 -subj "/CN=judge" 2>/dev/null
certificate server "/CN=localhost" "subjectAltName=DNS:localhost"
certificate client "/CN=engineer/emailAddress=engineer@saltmere.example" "extendedKeyUsage=clientAuth"

# what it serves
mkdir -p backend pages modules
yang="$work/modules"
cp "$here"/../crates/zarnet-formats/yang/*.yang "$here"/modules/*.yang modules/
cp "$document" data.json
"$(dirname "$FOREIGN")/python3" - "$here" "$yang" >backend/yang-library-data.json <<'PY'
import pathlib, sys
sys.path.insert(0, sys.argv[1])
from yangson_judge import library
print(library(pathlib.Path(sys.argv[2]), False))
PY
touch backend/__init__.py
cat >backend/usr_datastore.py <<'PY'
from jetconf.data import JsonDatastore


class UserDatastore(JsonDatastore):
    pass
PY
port=$(python3 -c 'import socket; s = socket.socket(); s.bind(("127.0.0.1", 0)); print(s.getsockname()[1])')
cat >config.yaml <<YAML
GLOBAL:
    PIDFILE: "$work/pid"
    LOGFILE: "-"
    YANG_LIB_DIR: "$yang"
    DATA_JSON_FILE: "data.json"
    BACKEND_PACKAGE: "backend"
    PERSISTENT_CHANGES: false
HTTP_SERVER:
    DOC_ROOT: "pages"
    LISTEN_LOCALHOST_ONLY: true
    PORT: $port
    SERVER_SSL_CERT: "server.crt"
    SERVER_SSL_PRIVKEY: "server.key"
    CA_CERT: "ca.pem"
NACM:
    ENABLED: false
    ALLOWED_USERS: ["engineer@saltmere.example"]
YAML
PYTHONPATH="$work" "${FOREIGN:-jetconf}" -c config.yaml >server.log 2>&1 &
server=$!
for _ in $(seq 100); do
    (exec 3<>"/dev/tcp/127.0.0.1/$port") 2>/dev/null && break
    sleep 0.1
done
printf 'ca = "ca.pem"\ncertificate = "client.crt"\nkey = "client.key"\n' >access.toml
chmod 600 access.toml
"$zarnet" retrieve "https://localhost:$port" --access access.toml --into site || { cat server.log >&2; exit 1; }
"$zarnet" export site/edge.toml -q >again.json || true
cmp again.json "$document" && echo "the foreign server was read as it is"
