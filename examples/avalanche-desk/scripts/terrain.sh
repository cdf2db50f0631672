#!/bin/sh
# The slopes above the valley, worked out once and kept for every node: a
# made-up ridge on a grid, and how steep it is at each point.
set -e
install -d -m 0755 /var/lib/avalanche
awk -v side="$INPUT_TERRAIN" 'BEGIN {
  for (y = 0; y < side; y++)
    for (x = 0; x < side; x++) {
      east  = cos(x / 17) * 3 + cos((x + y) / 41) * 2
      north = sin(y / 13) * 3 - cos((x + y) / 41) * 2
      steep = atan2(sqrt(east * east + north * north), 4) * 57.29578
      bins[int(steep / 5)]++
      if (steep > 45) steepest++
    }
  for (b = 0; b < 18; b++) printf "%d-%d degrees: %d points\n", b * 5, b * 5 + 5, bins[b]
  printf "%d points, %d of them steeper than 45 degrees\n", side * side, steepest
}' > /var/lib/avalanche/terrain
tail -n 1 /var/lib/avalanche/terrain
