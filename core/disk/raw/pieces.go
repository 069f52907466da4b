package raw

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"regexp"
	"strconv"

	"bagaglio/core/disk"
	"bagaglio/core/storage"
)

const (
	defaultPiece = 2 << 30
	leastPiece   = 1 << 20
	mostPiece    = 1 << 40
)

// numbered is a name that ends in a number of at least two digits, as pieces have.
var numbered = regexp.MustCompile(`^(.+)\.(\d{2,9})$`)

func pieceSize(o disk.Options) int64 {
	if o.PieceSize > 0 {
		return o.PieceSize
	}
	return defaultPiece
}

func pieceName(name string, i int64) string { return fmt.Sprintf("%s.%03d", name, i+1) }

// stem is the name without a number, so that an image may be asked for under the name of its first piece.
func stem(name string) string {
	if m := numbered.FindStringSubmatch(name); m != nil {
		return m[1]
	}
	return name
}

// pieceNames are those of all pieces, the first one last: it is the one that is opened.
func pieceNames(name string, virtual int64, o disk.Options) (names []string) {
	count := min((virtual+pieceSize(o)-1)/pieceSize(o), disk.MaxPieces)
	for i := int64(1); i < count; i++ {
		names = append(names, pieceName(stem(name), i))
	}
	return append(names, pieceName(stem(name), 0))
}

func createPieces(t disk.Target) (disk.Writer, error) {
	if t.Size == 0 {
		return nil, disk.Unsupported("a disk of 0 bytes")
	}
	length, name := pieceSize(t.Options), stem(t.Name)
	return disk.Split(t, length, func(i int, size int64) (disk.Writer, error) {
		piece := t
		piece.Name, piece.Size = pieceName(name, int64(i)), size
		return disk.CreateFlat(piece, false, nil)
	}, pieceNames(name, t.Size, t.Options), nil)
}

// findPieces returns the names of the files of a disk: of all pieces when the name is that of the first one.
func findPieces(o disk.Origin) (names []string, inPieces bool, err error) {
	m := numbered.FindStringSubmatch(o.Name)
	if m == nil {
		return []string{o.Name}, false, nil
	}
	number, err := strconv.Atoi(m[2])
	if err != nil {
		return nil, false, fmt.Errorf("the number of the piece %s: %w", o.Name, err)
	}
	nameOf := func(i int) string { return fmt.Sprintf("%s.%0*d", m[1], len(m[2]), i) }
	if number > 1 {
		for _, first := range []int{0, 1} {
			if _, err := o.Folder.Stat(nameOf(first)); err == nil {
				return nil, false, disk.Unsupported("piece %d alone: open the first one, %s", number, path.Base(nameOf(first)))
			}
		}
		return []string{o.Name}, false, nil // a name that happens to end in a number
	}
	if number == 1 {
		if _, err := o.Folder.Stat(nameOf(0)); err == nil {
			return nil, false, disk.Unsupported("piece 1 alone: open the first one, %s", path.Base(nameOf(0)))
		}
	}
	infos, err := o.Folder.List(path.Dir(o.Name))
	if errors.Is(err, errors.ErrUnsupported) {
		infos, err = ask(o.Folder, nameOf, number)
	}
	if err != nil {
		return nil, false, err
	}
	there, highest := map[string]bool{}, number
	for _, i := range infos {
		there[i.Name] = true
		if n := numbered.FindStringSubmatch(i.Name); n != nil && n[1] == m[1] && len(n[2]) >= len(m[2]) {
			if k, err := strconv.Atoi(n[2]); err == nil && i.Name == nameOf(k) {
				highest = max(highest, k)
			}
		}
	}
	if highest-number >= disk.MaxPieces {
		return nil, false, disk.Unsupported("a disk in more than %d pieces", disk.MaxPieces)
	}
	for i := number; i <= highest; i++ {
		if !there[nameOf(i)] {
			return nil, false, disk.Incomplete("the piece %s is missing", path.Base(nameOf(i)))
		}
		names = append(names, nameOf(i))
	}
	return names, true, nil
}

// behind is how many names behind a piece that is missing are still asked for, so that one that is missing in the middle is found.
const behind = 16

// ask finds pieces on storage that does not tell what lies in it.
func ask(folder storage.Folder, nameOf func(int) string, first int) (found []storage.Info, err error) {
	for i, missing := first, 0; missing < behind && i <= first+disk.MaxPieces; i++ {
		info, err := folder.Stat(nameOf(i))
		switch {
		case errors.Is(err, fs.ErrNotExist):
			missing++
		case err != nil:
			return nil, err
		default:
			missing = 0
			found = append(found, info)
		}
	}
	return found, nil
}
