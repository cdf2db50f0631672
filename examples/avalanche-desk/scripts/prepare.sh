#!/bin/sh
# What every node needs before anything else.
set -e
install -d -m 0755 /var/lib/avalanche
date -u '+prepared %Y-%m-%dT%H:%M:%SZ' > /var/lib/avalanche/prepared
echo "$NODE is node $INDEX of $COUNT in $GROUP, at $ADDRESS"
echo "the council meets at $ADDRESSES_COUNCIL"
test -s /run/kettlehole/lab.json
