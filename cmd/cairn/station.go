package main

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"math/rand/v2"
	"net/http"
	"time"
)

const stampLayout = "15:04:05.000"

// station posts a made-up slope reading again and again, and logs every
// success and failure with its time.
func station(args []string) error {
	var name, servers string
	var every time.Duration
	_, err := flags(args, func(f *flag.FlagSet) {
		f.StringVar(&name, "name", "", "name of this station")
		f.StringVar(&servers, "servers", "", "members to post to")
		f.DurationVar(&every, "every", 500*time.Millisecond, "time between readings")
	})
	if err != nil {
		return err
	}
	all := list(servers)
	if name == "" || len(all) == 0 || every <= 0 {
		return fmt.Errorf("station needs --name and --servers: %w", errUsage)
	}
	slope := 24 + 12*rand.Float64()
	for range time.Tick(every) {
		slope = min(max(slope+rand.Float64()-0.5, 20), 45)
		began := time.Now()
		body, err := json.Marshal(Reading{Station: name, Slope: float64(int(slope*10)) / 10, At: began.UTC()})
		if err != nil {
			return err
		}
		from, r := callAny(context.Background(), all, http.MethodPost, "/reading", body)
		took := time.Since(began).Round(time.Millisecond / 10)
		if err := r.failure(); err != nil {
			fmt.Printf("%s failed after %v: %v\n", began.Format(stampLayout), took, err)
		} else {
			fmt.Printf("%s posted %.1f degrees to %s in %v\n", began.Format(stampLayout), slope, from, took)
		}
		// The next one is asked first next time, so that posts spread over the members.
		all = append(all[1:], all[0])
	}
	return nil
}
