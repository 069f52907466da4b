// Package demo makes the demo world, Isola Ferries, and shows the main job on it.
package demo

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"

	"bagaglio/internal/bootcode"
)

// machine is a machine of the ferry line, of which the demo world has the disk.
type machine struct {
	name    string
	mib     int64 // virtual size of its disk
	records int   // that it has stored, 64 bytes each
	what    string
	note    string // in the home of its operator
	// old are files that take the place of those of the others, nil for none.
	old map[string]string
}

var machines = []machine{
	{"ticketing", 256, 510_000, "bookings", "Ticket office, quay. The lighthouse takes over on the first of the month.\n", nil},
	{"tide-board", 96, 40_000, "tides", "Shows high and low water in the waiting room.\n", nil},
	{"crew-roster", 128, 90_000, "shifts", "Who sails when. Ask the purser before changing anything.\n", nil},
	{"cargo-ledger", 192, 160_000, "crates", "Everything that is carried and is not a passenger.\n", nil},
}

// bootMiB is the length of the first partition of every disk.
const bootMiB = 34

// tools are the operating system's own programs that make the world, and the packages that have them.
var tools = map[string]string{"sfdisk": "fdisk", "mkfs.ext4": "e2fsprogs", "mkfs.vfat": "dosfstools", "mcopy": "mtools", "cmp": "diffutils"}

// CheckTools returns an error that says what to install when a tool is missing.
func CheckTools() error {
	var packages []string
	for tool, pkg := range tools {
		if _, err := find(tool); err != nil {
			packages = append(packages, pkg)
		}
	}
	slices.Sort(packages)
	if len(packages) > 0 {
		return fmt.Errorf(
			"the demo world is made with the operating system's own tools, and some are missing: apt-get install %s",
			strings.Join(packages, " "),
		)
	}
	return nil
}

// find returns the path of a tool. Those that make filesystems are not on the path of an ordinary user.
func find(tool string) (string, error) {
	if path, err := exec.LookPath(tool); err == nil {
		return path, nil
	}
	return exec.LookPath(filepath.Join("/usr/sbin", tool))
}

// MakeDisk makes the raw disk of a machine in dir: a real partition table, real filesystems, real files. It returns its path.
func MakeDisk(ctx context.Context, dir, name string) (string, error) {
	for _, m := range machines {
		if m.name == name {
			return m.make(ctx, dir)
		}
	}
	return "", fmt.Errorf("the demo world has no machine %q", name)
}

// Define writes the definition of a machine in dir, which names the disk that MakeDisk makes there. It returns its path.
func Define(dir, name string) (string, error) {
	text := fmt.Sprintf(`<domain type='demo'>
  <name>%[1]s</name>
  <memory unit='MiB'>512</memory>
  <vcpu>1</vcpu>
  <devices>
    <disk type='file' device='disk'>
      <driver type='raw'/>
      <source file='%[1]s.raw'/>
      <target dev='vda'/>
    </disk>
  </devices>
</domain>
`, name)
	path := filepath.Join(dir, name+".xml")
	if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
		return "", fmt.Errorf("writing the definition of %s: %w", name, err)
	}
	return path, nil
}

func (m machine) make(ctx context.Context, dir string) (path string, err error) {
	tmp, err := os.MkdirTemp(dir, ".making-")
	if err != nil {
		return "", err
	}
	defer func() { err = errors.Join(err, os.RemoveAll(tmp)) }()
	path = filepath.Join(dir, m.name+".raw")
	disk, err := os.Create(path)
	if err != nil {
		return "", err
	}
	defer func() { err = errors.Join(err, disk.Close()) }()
	if err := disk.Truncate(m.mib << 20); err != nil {
		return "", err
	}
	table := fmt.Sprintf(
		"label: gpt\nstart=1MiB, size=%dMiB, type=U, name=\"boot\"\nstart=%dMiB, type=L, name=\"%s\"\n",
		bootMiB-1,
		bootMiB,
		m.name,
	)
	if err := run(ctx, table, "sfdisk", "--quiet", path); err != nil {
		return "", err
	}
	boot, root := filepath.Join(tmp, "boot"), filepath.Join(tmp, "root")
	if err := m.makeBoot(ctx, tmp, boot); err != nil {
		return "", err
	}
	if err := m.makeRoot(ctx, tmp, root); err != nil {
		return "", err
	}
	if err := insert(disk, boot, 1<<20); err != nil {
		return "", err
	}
	if err := insert(disk, root, bootMiB<<20); err != nil {
		return "", err
	}
	code := bootcode.Sector(m.name+" is up. "+strings.TrimSpace(m.note), readUnits, true)
	_, err = disk.WriteAt(code[:bootcode.Code], 0) // behind it is what protects the partition table
	return path, err
}

// readUnits is how much its guest reads of its disk when it starts, as real ones do: 16 MiB.
const readUnits = 16 << 20 / bootcode.Unit

// makeBoot makes the first partition: a FAT filesystem with the start file.
func (m machine) makeBoot(ctx context.Context, tmp, image string) error {
	start := filepath.Join(tmp, "start.cfg")
	if err := os.WriteFile(start, []byte("title "+m.name+"\nroot LABEL="+m.name+"\n"), 0o644); err != nil {
		return err
	}
	if err := sized(image, (bootMiB-1)<<20); err != nil {
		return err
	}
	if err := run(ctx, "", "mkfs.vfat", "-F", "32", "-n", "BOOT", image); err != nil {
		return err
	}
	if err := run(ctx, "", "mcopy", "-i", image, start, "::start.cfg"); err != nil {
		return err
	}
	loader := filepath.Join(tmp, "EFI", "BOOT", "BOOTX64.EFI")
	if err := os.MkdirAll(filepath.Dir(loader), 0o700); err != nil {
		return err
	}
	if err := os.WriteFile(loader, []byte("the loader of "+m.name+"\n"), 0o600); err != nil {
		return err
	}
	return run(ctx, "", "mcopy", "-s", "-i", image, filepath.Join(tmp, "EFI"), "::")
}

// drivers are those that are built into the kernel of the demo world.
const drivers = `kernel/drivers/block/virtio_blk.ko
kernel/drivers/ata/ahci.ko
kernel/drivers/ata/ata_piix.ko
kernel/drivers/scsi/mptspi.ko
kernel/drivers/net/virtio_net.ko
kernel/drivers/net/ethernet/intel/e1000/e1000.ko
`

// makeRoot makes the second partition: an ext4 filesystem with the machine's files.
func (m machine) makeRoot(ctx context.Context, tmp, image string) error {
	tree := filepath.Join(tmp, "tree")
	files := map[string]string{
		"etc/hostname":           m.name + "\n",
		"home/operator/note":     m.note,
		"srv/" + m.what + ".csv": m.data(),
		"etc/os-release":         "NAME=\"Harbour Linux\"\nPRETTY_NAME=\"Harbour Linux 12\"\n",
		"etc/fstab":              "LABEL=" + m.name + " / ext4 defaults 0 1\n",

		"boot/loader/entries/harbour.conf":             "title " + m.name + "\noptions root=LABEL=" + m.name + " quiet\n",
		"lib/modules/6.1.0-12-harbour/modules.builtin": drivers,
	}
	maps.Copy(files, m.old)
	for name, content := range files {
		file := filepath.Join(tree, name)
		if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(file, []byte(content), 0o644); err != nil {
			return err
		}
	}
	if err := sized(image, (m.mib-bootMiB-1)<<20); err != nil { // the second copy of the table needs room at the end
		return err
	}
	return run(ctx, "", "mkfs.ext4", "-q", "-L", m.name, "-d", tree, image)
}

// data are made-up records, the same in every demo world.
func (m machine) data() string {
	r := rand.New(rand.NewPCG(2247, uint64(len(m.name))))
	ships := []string{"Gabbiano", "Tramontana", "Lanterna", "Scirocco"}
	var b strings.Builder
	for i := range m.records {
		fmt.Fprintf(
			&b,
			"%08d,%-10s,%02d:%02d,%-6s,%016x,%08x\n",
			i,
			ships[r.IntN(len(ships))],
			r.IntN(24),
			r.IntN(60),
			m.what[:min(6, len(m.what))],
			r.Uint64(),
			r.Uint32(),
		)
	}
	return b.String()
}

func sized(path string, size int64) error {
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	return errors.Join(f.Truncate(size), f.Close())
}

// insert copies the parts of a file that are not zeros into the disk.
func insert(disk *os.File, from string, at int64) error {
	src, err := os.Open(from)
	if err != nil {
		return err
	}
	defer src.Close()
	buffer, zeros := make([]byte, 64<<10), make([]byte, 64<<10)
	for {
		n, err := io.ReadFull(src, buffer)
		if n > 0 && string(buffer[:n]) != string(zeros[:n]) {
			if _, err := disk.WriteAt(buffer[:n], at); err != nil {
				return err
			}
		}
		at += int64(n)
		if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
			return nil
		} else if err != nil {
			return err
		}
	}
}

// run runs a tool of the operating system with that input.
func run(ctx context.Context, input, tool string, args ...string) error {
	path, err := find(tool)
	if err != nil {
		return err
	}
	cmd := exec.CommandContext(ctx, path, args...)
	cmd.Stdin = strings.NewReader(input)
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("%s %s: %w\n%s", tool, strings.Join(args, " "), err, out)
	}
	return nil
}
