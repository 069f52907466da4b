package objects

import (
	"context"
	"crypto/md5" //nolint:gosec // as in write.go
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"strings"

	"github.com/minio/minio-go/v7"
	"golang.org/x/sync/errgroup"
)

// Rename gives a file another name: the store copies it, and puts one together that is in parts. It never replaces what exists, as far as the store tells.
func (f *Folder) Rename(from, to string) error {
	source, errFrom := f.key(from)
	target, errTo := f.key(to)
	if err := errors.Join(errFrom, errTo); err != nil {
		return err
	}
	from, to = path.Clean(from), path.Clean(to)
	info, err := f.object(from, source)
	inParts := errors.Is(err, fs.ErrNotExist)
	var in parts
	if inParts {
		if in, err = f.inParts(from, source); err == nil {
			in.stored, err = f.partsOf(source)
		}
	}
	if err != nil {
		return err
	}
	switch _, err := f.Stat(to); {
	case err == nil:
		return &fs.PathError{Op: "rename", Path: to, Err: fs.ErrExist}
	case !errors.Is(err, fs.ErrNotExist):
		return err
	}
	switch {
	case inParts:
		if err := f.together(from, source, to, target, in); err != nil {
			return err
		}
		return f.dropParts(from, source)
	case info.Size > largestCopy:
		err = f.copied(from, to, target, f.ranges(source, info))
	default:
		err = f.copyOnce(source, info, to, target)
	}
	if err != nil {
		return err
	}
	return f.drop(from, source)
}

// copyOnce copies an object that can be copied at once.
func (f *Folder) copyOnce(source string, info minio.ObjectInfo, to, target string) error {
	ctx, cancel := calling()
	defer cancel()
	got, err := f.core.Client.CopyObject(ctx,
		minio.CopyDestOptions{Bucket: f.bucket, Object: target},
		minio.CopySrcOptions{Bucket: f.bucket, Object: source, MatchETag: info.ETag})
	if err != nil {
		return plain("rename", to, err)
	}
	if isMD5(info.ETag) && isMD5(got.ETag) && got.ETag != info.ETag {
		return errors.Join(f.differs(to, got.ETag, info.ETag), f.drop(to, target))
	}
	return nil
}

func (f *Folder) differs(name, has, want string) error {
	return fmt.Errorf(
		"the store says that %s has the checksum %s there, and it should have %s: what it copied is not what was written",
		name,
		has,
		want,
	)
}

func isMD5(tag string) bool {
	sum, err := hex.DecodeString(tag)
	return err == nil && len(sum) == md5.Size
}

// piece is what a part of an object is copied from.
type piece struct {
	key         string
	off, length int64
	tag         string // of what is copied, empty where that is not known
}

// ranges are those that a long object is copied in.
func (f *Folder) ranges(key string, info minio.ObjectInfo) (all []piece) {
	step := max(f.part, (info.Size+mostParts-1)/mostParts)
	for off := int64(0); off < info.Size; off += step {
		all = append(all, piece{key: key, off: off, length: min(step, info.Size-off)})
	}
	return all
}

// together has the store put the parts of a file together.
func (f *Folder) together(from, source, to, target string, in parts) error {
	if in.size == 0 {
		_, err := f.put(to, target, nil, true)
		return err
	}
	count := int((in.size + f.part - 1) / f.part)
	all := make([]piece, count)
	for i := range all {
		length := min(f.part, in.size-int64(i)*f.part)
		key, has := partKey(source, i), in.stored[i]
		if has.size > length {
			return fmt.Errorf("a part of %s is longer in the store than it should be: begin it anew", from)
		}
		if has.size < length { // its end was never written, and reads as zeros
			content := make([]byte, length)
			if has.size > 0 {
				if err := f.read(from, key, has.tag, content[:has.size], 0); err != nil {
					return err
				}
			}
			if has.size == 0 {
				key = fmt.Sprintf("%s%s/zeros-%d", source, partsOf, length)
			}
			tag, err := f.zeros(from, key, content, has.size == 0)
			if err != nil {
				return err
			}
			has.tag = tag
		}
		all[i] = piece{key: key, length: length, tag: has.tag}
	}
	return f.copied(from, to, target, all)
}

// zeros stores what is missing, once where it is nothing but zeros.
func (f *Folder) zeros(name, key string, content []byte, shared bool) (string, error) {
	if shared {
		if info, err := f.object(name, key); err == nil && info.Size == int64(len(content)) {
			return info.ETag, nil
		}
	}
	return f.put(name, key, content, false)
}

// copied makes an object of pieces that the store copies, and compares its checksums with ours.
func (f *Folder) copied(from, to, target string, all []piece) (err error) {
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	id, err := f.core.NewMultipartUpload(ctx, f.bucket, target, minio.PutObjectOptions{ContentType: "application/octet-stream"})
	if err != nil {
		return plain("rename", to, err)
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, plain("rename", to, f.core.AbortMultipartUpload(context.WithoutCancel(ctx), f.bucket, target, id)))
		}
	}()
	done, tags := make([]minio.CompletePart, len(all)), make([]string, len(all))
	group, groupCtx := errgroup.WithContext(ctx)
	group.SetLimit(uploads)
	for i, p := range all {
		group.Go(func() error {
			part, err := f.core.CopyObjectPart(groupCtx, f.bucket, p.key, f.bucket, target, id, i+1, p.off, p.length, nil)
			if err != nil {
				return plain("rename", from, err)
			}
			part.ETag = strings.Trim(part.ETag, `"`)
			if isMD5(p.tag) && isMD5(part.ETag) && part.ETag != p.tag {
				return f.differs(fmt.Sprintf("part %d of %s", i+1, to), part.ETag, p.tag)
			}
			done[i], tags[i] = part, part.ETag
			return nil
		})
	}
	if err := group.Wait(); err != nil {
		return err
	}
	got, err := f.core.CompleteMultipartUpload(ctx, f.bucket, target, id, done, minio.PutObjectOptions{})
	if err != nil {
		return plain("rename", to, err)
	}
	want, err := sumOfParts(tags)
	if errors.Is(err, errors.ErrUnsupported) { // what it tells is no checksum
		return nil
	}
	if has := strings.Trim(got.ETag, `"`); strings.HasSuffix(has, fmt.Sprintf("-%d", len(tags))) && has != want {
		return errors.Join(f.differs(to, has, want), f.drop(to, target))
	}
	return err
}
