package trial

import (
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	goruntime "runtime"
	"syscall"

	"github.com/google/nftables"
	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"

	"kettlehole/internal/workstation"
)

// kernel tries what nodes and networks need, on a thread that ends with the
// namespaces that it made.
func kernel(folder string) []workstation.Trial {
	done := make(chan []workstation.Trial)
	go func() {
		goruntime.LockOSThread() // never unlocked: the thread ends with its namespaces
		done <- inNamespaces(folder)
	}()
	return <-done
}

func inNamespaces(folder string) []workstation.Trial {
	err := unix.Unshare(unix.CLONE_FS | unix.CLONE_NEWNS | unix.CLONE_NEWNET | unix.CLONE_NEWIPC | unix.CLONE_NEWUTS | unix.CLONE_NEWCGROUP)
	all := []workstation.Trial{tried(workstation.TryNamespaces, err)}
	names := []string{workstation.TryOverlay, workstation.TryBridge, workstation.TryVeth, workstation.TryIPv6, workstation.TryNetem, workstation.TryNftables, workstation.TryTun, workstation.TryVsock}
	if err != nil {
		for _, name := range names {
			all = append(all, workstation.Trial{Name: name, Why: "not tried, since namespaces do not work"})
		}
		return all
	}
	// Whatever is mounted from here on is seen by this thread alone.
	private := unix.Mount("", "/", "", unix.MS_REC|unix.MS_PRIVATE, "")
	for i, try := range []func() error{func() error { return errors.Join(private, overlay(folder)) }, bridge, veth, ipv6, netem, nft, tun, vsock} {
		all = append(all, tried(names[i], try()))
	}
	return all
}

func overlay(folder string) error {
	for _, name := range []string{"lower", "upper", "work", "root"} {
		if err := os.Mkdir(filepath.Join(folder, name), 0o700); err != nil {
			return err
		}
	}
	root := filepath.Join(folder, "root")
	options := fmt.Sprintf("lowerdir=%[1]s/lower,upperdir=%[1]s/upper,workdir=%[1]s/work,volatile", folder)
	if err := unix.Mount("overlay", root, "overlay", 0, options); err != nil {
		return err
	}
	err := os.WriteFile(filepath.Join(root, "file"), []byte("x"), 0o600)
	return errors.Join(err, unix.Unmount(root, unix.MNT_DETACH))
}

func named(name string) netlink.LinkAttrs {
	attrs := netlink.NewLinkAttrs()
	attrs.Name = name
	return attrs
}

func bridge() error { return netlink.LinkAdd(&netlink.Bridge{LinkAttrs: named("try-bridge")}) }

func veth() error {
	return netlink.LinkAdd(&netlink.Veth{LinkAttrs: named("try-veth"), PeerName: "try-peer"})
}

// ipv6 gives the link that veth made an address.
func ipv6() error {
	link, err := netlink.LinkByName("try-veth")
	if err != nil {
		return err
	}
	return netlink.AddrAdd(link, &netlink.Addr{IPNet: &net.IPNet{IP: net.ParseIP("fd00::1"), Mask: net.CIDRMask(64, 128)}, Flags: unix.IFA_F_NODAD})
}

// netem puts a delay on the link that veth made.
func netem() error {
	link, err := netlink.LinkByName("try-veth")
	if err != nil {
		return err
	}
	return netlink.QdiscAdd(netlink.NewNetem(netlink.QdiscAttrs{LinkIndex: link.Attrs().Index, Handle: netlink.MakeHandle(1, 0), Parent: netlink.HANDLE_ROOT},
		netlink.NetemQdiscAttrs{Latency: 1000}))
}

func nft() error {
	conn, err := nftables.New()
	if err != nil {
		return err
	}
	conn.AddTable(&nftables.Table{Family: nftables.TableFamilyBridge, Name: "try"})
	return conn.Flush()
}

func tun() error {
	fd, err := unix.Open("/dev/net/tun", unix.O_RDWR|unix.O_CLOEXEC, 0)
	if err != nil {
		return err
	}
	return unix.Close(fd)
}

func vsock() error {
	fd, err := unix.Socket(unix.AF_VSOCK, unix.SOCK_STREAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return err
	}
	return unix.Close(fd)
}

// user starts a program in a user namespace of its own.
func user() workstation.Trial {
	cmd := exec.Command("/bin/true")
	cmd.SysProcAttr = &syscall.SysProcAttr{Cloneflags: unix.CLONE_NEWUSER,
		UidMappings: []syscall.SysProcIDMap{{HostID: os.Getuid(), Size: 1}}, GidMappings: []syscall.SysProcIDMap{{HostID: os.Getgid(), Size: 1}}}
	return tried(workstation.TryUser, cmd.Run())
}
