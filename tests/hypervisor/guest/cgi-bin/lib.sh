# Common to all answers: values, the body of a POST, members of JSON.
. /etc/values
body=""; [ -n "$CONTENT_LENGTH" ] && body=$(head -c "$CONTENT_LENGTH")
member() { printf '%s' "$body" | sed -n "s/.*\"$1\": *\"\([^\"]*\)\".*/\1/p"; }
answer() { printf 'Status: %s\r\nContent-Type: application/json\r\n\r\n%s\n' "$1" "$2"; exit 0; }
