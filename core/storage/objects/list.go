package objects

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"bagaglio/core/storage"

	"github.com/minio/minio-go/v7"
)

// mostListed bounds the entries of a folder.
const mostListed = 100_000

// listed lists objects with a prefix, at most so many; 0 for all. The delimiter is empty for what lies in folders too.
func (f *Folder) listed(prefix, delimiter string, most int) (all minio.ListBucketV2Result, err error) {
	token := ""
	for {
		got, err := f.core.ListObjectsV2(f.bucket, prefix, "", token, delimiter, most)
		if err != nil {
			return all, plain("list", prefix, err)
		}
		all.Contents = append(all.Contents, got.Contents...)
		all.CommonPrefixes = append(all.CommonPrefixes, got.CommonPrefixes...)
		if len(all.Contents)+len(all.CommonPrefixes) > mostListed {
			return all, fmt.Errorf("there are more than %d entries in %s", mostListed, prefix)
		}
		if !got.IsTruncated || got.NextContinuationToken == "" || most > 0 {
			return all, nil
		}
		token = got.NextContinuationToken
	}
}

// List returns what lies in a folder. A file in parts is listed as one file.
func (f *Folder) List(dir string) ([]storage.Info, error) {
	key, err := f.key(dir)
	if err != nil {
		return nil, err
	}
	if path.Clean(dir) != "." {
		key += "/"
	}
	found, err := f.listed(key, "/", 0)
	if err != nil {
		return nil, err
	}
	if path.Clean(dir) != "." && len(found.Contents)+len(found.CommonPrefixes) == 0 {
		return nil, &fs.PathError{Op: "list", Path: dir, Err: fs.ErrNotExist}
	}
	infos := []storage.Info{}
	for _, o := range found.Contents {
		if name, ok := f.nameOf(o.Key); ok { // one that ends with a slash marks a folder
			infos = append(infos, infoOf(name, o))
		}
	}
	for _, p := range found.CommonPrefixes {
		key := strings.TrimSuffix(p.Prefix, "/")
		if file, parts := strings.CutSuffix(key, partsOf); parts {
			name, ok := f.nameOf(file)
			in, err := f.inParts(name, file)
			if errors.Is(err, fs.ErrNotExist) || !ok {
				continue // it was just put together
			}
			if err != nil {
				return nil, err
			}
			infos = append(infos, storage.Info{Name: name, Size: in.size, Room: storage.Unknown, Modified: in.modified, Regular: true})
			continue
		}
		if name, ok := f.nameOf(key); ok {
			infos = append(infos, storage.Info{Name: name, Room: storage.Unknown, IsDir: true})
		}
	}
	slices.SortFunc(infos, func(a, b storage.Info) int { return strings.Compare(a.Name, b.Name) })
	return infos, nil
}

// parts is a file that is in parts.
type parts struct {
	size     int64
	modified time.Time
	stored   map[int]stored
}

// stored is a part that the store has.
type stored struct {
	size int64
	tag  string
}

// partKey is the object of a part.
func partKey(key string, i int) string { return fmt.Sprintf("%s%s/%06d", key, partsOf, i) }

// inParts finds a file that is in parts, without them, or fails with fs.ErrNotExist.
func (f *Folder) inParts(name, key string) (p parts, err error) {
	ctx, cancel := calling()
	defer cancel()
	body, info, _, err := f.core.GetObject(ctx, f.bucket, key+partsOf+"/"+sizeOf, minio.GetObjectOptions{})
	if err != nil {
		return p, plain("stat", name, err)
	}
	defer body.Close()
	var text [20]byte
	n, _ := body.Read(text[:]) // what is not all of it is no number, or another one than that of its parts
	p.size, err = strconv.ParseInt(string(text[:n]), 10, 64)
	if err != nil || p.size < 0 {
		return p, fmt.Errorf("the length of %s in the store cannot be read: remove what lies below %s%s/ there", name, key, partsOf)
	}
	p.modified = info.LastModified
	return p, nil
}

// partsOf finds the parts of a file, those that hold nothing but zeros left out.
func (f *Folder) partsOf(key string) (map[int]stored, error) {
	found, err := f.listed(key+partsOf+"/", "", 0)
	if err != nil {
		return nil, err
	}
	all := map[int]stored{}
	for _, o := range found.Contents {
		if i, err := strconv.Atoi(path.Base(o.Key)); err == nil && i >= 0 && i < mostParts && o.Key == partKey(key, i) {
			all[i] = stored{o.Size, strings.Trim(o.ETag, `"`)}
		}
	}
	return all, nil
}

// Remove removes a file, or fails for a folder that is not empty: one that is empty is none.
func (f *Folder) Remove(name string) error {
	key, err := f.key(name)
	if err != nil {
		return err
	}
	info, err := f.Stat(name)
	if err != nil {
		return err
	}
	if info.IsDir {
		return &fs.PathError{Op: "remove", Path: name, Err: errors.New("the folder is not empty")}
	}
	return errors.Join(f.drop(name, key), f.dropParts(name, key))
}

func (f *Folder) drop(name, key string) error {
	ctx, cancel := calling()
	defer cancel()
	return plain("remove", name, f.core.RemoveObject(ctx, f.bucket, key, minio.RemoveObjectOptions{}))
}

// dropParts removes what there is of a file in parts, its length first: without that it is none.
func (f *Folder) dropParts(name, key string) error {
	found, err := f.listed(key+partsOf+"/", "", 0)
	if err != nil || len(found.Contents) == 0 {
		return err
	}
	err = f.drop(name, key+partsOf+"/"+sizeOf)
	for _, o := range found.Contents {
		if err == nil && path.Base(o.Key) != sizeOf {
			err = f.drop(name, o.Key)
		}
	}
	return err
}
