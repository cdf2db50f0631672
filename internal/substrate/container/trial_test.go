package container

import (
	"context"
	"fmt"
	"net/netip"
	"os"
	"testing"
	"time"
	"sync"

	"github.com/stretchr/testify/require"

	"kettlehole/internal/agent"
	"kettlehole/internal/anchor"
	"kettlehole/internal/fabric"
	"kettlehole/internal/image"
	"kettlehole/internal/substrate"
)

func TestTrial(t *testing.T) {
	ctx := context.Background()
	dir := t.TempDir()
	store := image.NewStore(dir + "/images")
	e, err := image.Workstation("/tmp/w/bin/kettlehole-init")
	require.NoError(t, err)
	l, err := store.Layer(ctx, e, func(image.Layer) error { return nil })
	require.NoError(t, err)
	for _, n := range []int{1, 3, 10, 50} {
		lab := fmt.Sprintf("%s/lab%d", dir, n)
		t0 := time.Now()
		require.NoError(t, anchor.Start(ctx, "/tmp/w/bin/kettlehole-anchor", lab, func(int) error { return nil }))
		t1 := time.Now()
		cg, err := NewCgroup(fmt.Sprintf("trial-%d", n))
		require.NoError(t, err)
		c := New(lab, "/usr/sbin/runc", cg)
		require.NoError(t, c.Networks(ctx, []string{"valley"}))
		t2 := time.Now()
		var wg sync.WaitGroup
		for i := range n {
			wg.Go(func() {
				name := fmt.Sprintf("node-%d", i+1)
				err := c.Make(ctx, substrate.Node{Name: name, CPU: 1000, Memory: 128 << 20, Layers: []string{l.Path}, Hosts: "127.0.0.1 localhost\n",
					Links: []fabric.Link{{Network: "valley", Name: "eth0", MAC: fmt.Sprintf("02:00:00:00:00:%02x", i+1), Address: netip.MustParsePrefix(fmt.Sprintf("10.61.0.%d/24", i+1))}}})
				if err != nil { t.Error(err) }
			})
		}
		wg.Wait()
		t3 := time.Now()
		for i := range n {
			wg.Go(func() {
				out, code, err := c.Agent(fmt.Sprintf("node-%d", i+1)).Run(ctx, 1000, "hostname")
				if err != nil || code != 0 { t.Error(out, code, err) }
			})
		}
		wg.Wait()
		t4 := time.Now()
		var addrs []string
		for i := range n { addrs = append(addrs, fmt.Sprintf("10.61.0.%d", i+1)) }
		m, err := c.Agent("node-1").Reach(ctx, addrs)
		require.NoError(t, err)
		for a, v := range m { if v < 0 { t.Error("unreached", a) } }
		t5 := time.Now()
		if n == 1 {
			out, code, err := c.Agent("node-1").Run(ctx, 100000, "sh", "-c", "ps aux; ip a; ls -la / /etc /root /home /var; awk 'BEGIN{print 1}'; python3 -c 'import ssl,json;print(ssl.get_default_verify_paths())'; curl --version | head -1; openssl version; id; mount; cat /proc/self/cgroup; grep -i rss /proc/1/status")
			fmt.Println(out, code, err)
			_ = agent.Exec{}
		}
		require.NoError(t, anchor.End(ctx, lab))
		t6 := time.Now()
		require.NoError(t, cg.Remove(ctx))
		t7 := time.Now()
		fmt.Println(n, "anchor", t1.Sub(t0), "net", t2.Sub(t1), "make", t3.Sub(t2), "exec", t4.Sub(t3), "reach", t5.Sub(t4), "end", t6.Sub(t5), "cg", t7.Sub(t6), "total", t5.Sub(t0))
	}
	_ = os.Getpid()
}
