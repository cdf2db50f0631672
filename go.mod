module kettlehole

go 1.26.8

require (
	github.com/creack/pty v1.1.24
	github.com/goccy/go-yaml v1.19.2
	github.com/moby/profiles/seccomp v0.2.4
	github.com/opencontainers/runtime-spec v1.2.1
	github.com/prometheus/procfs v0.23.0
	github.com/stretchr/testify v1.12.1
	github.com/vishvananda/netlink v1.3.1
	golang.org/x/net v0.62.0
	golang.org/x/sys v0.49.0
	modernc.org/sqlite v1.61.1
)

require (
	github.com/dustin/go-humanize v1.1.0 // indirect
	github.com/google/uuid v1.6.0 // indirect
	github.com/mattn/go-isatty v0.0.24 // indirect
	github.com/ncruces/go-strftime v1.1.0 // indirect
	github.com/remyoudompheng/bigfft v0.0.0-20230129092748-24d4a6f8daec // indirect
	github.com/vishvananda/netns v0.0.5 // indirect
	go.yaml.in/yaml/v3 v3.0.5 // indirect
	modernc.org/libc v1.79.0 // indirect
	modernc.org/mathutil v1.7.1 // indirect
	modernc.org/memory v1.12.1 // indirect
)
