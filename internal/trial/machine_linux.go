package trial

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"kettlehole/internal/workstation"
)

// machineLimit is how long a machine that is tried may take.
const machineLimit = 5 * time.Second

func findQEMU() string {
	path, err := exec.LookPath("qemu-system-x86_64")
	if err != nil {
		return ""
	}
	return path
}

// findKernel is the newest kernel image of the workstation, "" for none.
func findKernel(boot string) string {
	images, _ := filepath.Glob(filepath.Join(boot, "vmlinuz*")) // the pattern is right
	newest, when := "", time.Time{}
	for _, image := range images {
		if info, err := os.Stat(image); err == nil && info.ModTime().After(when) {
			newest, when = image, info.ModTime()
		}
	}
	return newest
}

// machines runs code in virtual machines: a few instructions under software
// emulation, and a whole kernel with KVM. A device that is there proves
// nothing: there are workstations whose /dev/kvm takes a machine and never
// ends it.
func machines(ctx context.Context, folder, boot string) []workstation.Trial {
	path := findQEMU()
	kvm := workstation.Trial{Name: workstation.TryKVM, Why: "there is no /dev/kvm"}
	if _, err := os.Stat("/dev/kvm"); err == nil {
		kvm.Path = "/dev/kvm"
	}
	if path == "" {
		if kvm.Path != "" {
			kvm.Why = "not tried, since no QEMU is installed"
		}
		return []workstation.Trial{{Name: workstation.TryQEMU, Why: "none is installed"}, kvm}
	}
	qemu := tried(workstation.TryQEMU, runSector(ctx, path, folder))
	qemu.Path, qemu.Version = path, version(ctx, path)
	switch kernel := findKernel(boot); {
	case kvm.Path == "":
	case kernel == "":
		kvm.Why = "not tried, since there is no kernel in " + boot + " to boot"
	default:
		kvm = tried(workstation.TryKVM, bootKernel(ctx, path, kernel))
		kvm.Path = "/dev/kvm"
	}
	return []workstation.Trial{qemu, kvm}
}

// sector is a boot sector: it waits for three ticks of the timer, so that
// interrupts are known to come, and leaves through the exit device at port
// 0x501 with code 0x10.
var sector = []byte{
	0xfa,       // cli
	0x31, 0xc0, // xor ax, ax
	0x8e, 0xd8, // mov ds, ax
	0xfb,                   // sti
	0x8b, 0x1e, 0x6c, 0x04, // mov bx, [0x46c], the ticks that the BIOS counts
	0xf4,             // again: hlt
	0xa1, 0x6c, 0x04, // mov ax, [0x46c]
	0x29, 0xd8, // sub ax, bx
	0x3d, 0x03, 0x00, // cmp ax, 3
	0x72, 0xf5, // jb again
	0xba, 0x01, 0x05, // mov dx, 0x501
	0xb0, 0x10, // mov al, 0x10
	0xee,       // out dx, al
	0xeb, 0xfe, // jmp here
}

// sectorLeft is QEMU's exit code for what sector writes.
const sectorLeft = 0x10<<1 | 1

// bare is a machine with nothing, seen by nobody.
var bare = []string{"-nodefaults", "-no-user-config", "-display", "none", "-no-reboot"}

// runSector lets software emulation run the boot sector.
func runSector(ctx context.Context, path, folder string) error {
	disk := make([]byte, 64<<10)
	copy(disk, sector)
	disk[510], disk[511] = 0x55, 0xaa
	file := filepath.Join(folder, "sector.img")
	if err := os.WriteFile(file, disk, 0o600); err != nil {
		return err
	}
	_, code, err := machine(ctx, path, "-machine", "pc,accel=tcg", "-m", "16M", "-device", "isa-debug-exit,iobase=0x501,iosize=1",
		"-drive", "format=raw,file="+strings.ReplaceAll(file, ",", ",,"))
	if err == nil && code != sectorLeft {
		err = fmt.Errorf("it ends with code %d instead of running its first program", code)
	}
	return err
}

// bootKernel lets KVM boot a kernel without a disk, which ends in the words
// that it finds none.
func bootKernel(ctx context.Context, path, kernel string) error {
	out, code, err := machine(ctx, path, "-machine", "q35,accel=kvm", "-cpu", "host", "-m", "256M", "-serial", "stdio",
		"-kernel", kernel, "-append", "console=ttyS0 panic=-1 root=/dev/none")
	if err == nil && !strings.Contains(out, "Unable to mount root fs") {
		lines := strings.Split(strings.TrimSpace(out), "\n")
		err = fmt.Errorf("it ends with code %d before the kernel is up: %s", code, lines[len(lines)-1])
	}
	return err
}

// machine runs QEMU until it ends, at most for the limit.
func machine(ctx context.Context, path string, args ...string) (string, int, error) {
	ctx, cancel := context.WithTimeout(ctx, machineLimit)
	defer cancel()
	cmd := exec.CommandContext(ctx, path, slices.Concat(bare, args)...)
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	err := cmd.Run()
	var ended *exec.ExitError
	switch {
	case ctx.Err() != nil:
		return out.String(), 0, fmt.Errorf("it starts, and has not run its first program within %v", machineLimit)
	case err == nil, errors.As(err, &ended) && ended.ExitCode() == sectorLeft:
		return out.String(), cmd.ProcessState.ExitCode(), nil
	}
	return out.String(), 0, fmt.Errorf("%w: %s", err, strings.TrimSpace(out.String()))
}
