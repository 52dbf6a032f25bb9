#!/bin/sh
# Ask a model through the relay: whole, and as a stream.
# RELAY=http://127.0.0.1:8309/v1 sh curl.sh LABEL
set -eu
label=${1:-almanac}
ask() {
    curl -sSN "$RELAY/chat/completions" \
        -H "authorization: Bearer ${AGOUTI_TOKEN:-none}" \
        -H "content-type: application/json" \
        -d "{\"model\": \"$label\", \"messages\": [{\"role\": \"user\", \"content\": \"When do peas go in?\"}]$1}"
}
ask ""
echo
ask ', "stream": true, "max_tokens": 12'
