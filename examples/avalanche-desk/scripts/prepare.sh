#!/bin/sh
# What every node needs before anything else.
set -e
install -d -m 0755 /var/lib/avalanche
date -u '+prepared %Y-%m-%dT%H:%M:%SZ' > /var/lib/avalanche/prepared
echo "$NODE is node $INDEX of $COUNT in $GROUP, at $ADDRESS"
python3 - <<'P'
import json
facts = json.load(open("/run/kettlehole/lab.json"))
print("the lab has", len(facts["nodes"]), "nodes on", ", ".join(sorted(facts["networks"])))
P
