package survey

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestModules(t *testing.T) {
	loaded := "veth 49152 0 - Live 0x0000000000000000\nbridge 311296 1 br_netfilter, Live 0x0\n\n"
	built := "kernel/net/ipv4/tcp-cubic.ko\nkernel/fs/ext4/ext4.ko.xz\nkernel/drivers/net/veth.ko\nnonsense\n"
	assert.Equal(t, []string{"bridge", "ext4", "tcp_cubic", "veth"}, modulesOf([]byte(loaded), []byte(built)))
	assert.Equal(t, []string{}, modulesOf(nil, nil), "a kernel without modules tells so")
}
