package api

import (
	"context"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"io"
	"mime"
	"net/http"
	"path"
	"strings"

	spec "bagaglio/api"
	"bagaglio/core/storage"
	"bagaglio/core/upload"
	"bagaglio/internal/arrivals"
	"bagaglio/internal/files"
	"bagaglio/internal/records"

	"github.com/gin-gonic/gin"
)

func (s *server) ListFiles(ctx context.Context, r ListFilesRequestObject) (ListFilesResponseObject, error) {
	n, err := pageSize(r.Params.Limit)
	if err != nil {
		return nil, err
	}
	behind, err := base64.RawURLEncoding.DecodeString(or(r.Params.Cursor, ""))
	if err != nil {
		return nil, fmt.Errorf("%w: the cursor is none that this list gave", records.ErrInvalid)
	}
	all, next, total, err := s.service.Files.List(ctx, r.Pool, or(r.Params.Folder, "."), string(behind), n)
	out := ListFiles200JSONResponse{Items: views(all, viewFile), Total: total}
	if next != "" {
		cursor := base64.RawURLEncoding.EncodeToString([]byte(next))
		out.Next = &cursor
	}
	return out, err
}

func viewFile(e files.Entry) spec.FileEntry {
	out := spec.FileEntry{Path: e.Path, Folder: e.Folder, Size: e.Size, Modified: e.Modified, Disk: known(e.Disk)}
	if e.Room != storage.Unknown {
		out.Room = &e.Room
	}
	return out
}

func (s *server) MakeFolder(ctx context.Context, r MakeFolderRequestObject) (MakeFolderResponseObject, error) {
	return MakeFolder204Response{}, s.service.Files.MakeFolder(ctx, r.Pool, r.Body.Path)
}

func (s *server) RenameFile(ctx context.Context, r RenameFileRequestObject) (RenameFileResponseObject, error) {
	return RenameFile204Response{}, s.service.Files.Rename(ctx, r.Pool, r.Body.Path, r.Body.To, s.service.Queue.Quiet())
}

func (s *server) RemoveFile(ctx context.Context, r RemoveFileRequestObject) (RemoveFileResponseObject, error) {
	return RemoveFile204Response{}, s.service.Files.Remove(ctx, r.Pool, r.Params.Path, whoAsks(ctx), s.service.Queue.Quiet())
}

// content answers with a file, as far as it is asked for.
type content struct {
	request *http.Request
	file    storage.File
	info    storage.Info
}

func (s *server) content(ctx context.Context, pool, name string) (content, error) {
	file, info, err := s.service.Files.Open(ctx, pool, name)
	return content{ctx.(*gin.Context).Request, file, info}, err
}

// visit writes the answer. Its ETag is another one whenever the file was written to, as far as its storage tells.
func (c content) visit(w http.ResponseWriter) error {
	defer c.file.Close()
	size, err := c.file.Size()
	if err != nil {
		return err
	}
	h := w.Header()
	h.Set("Content-Type", "application/octet-stream")
	h.Set("Content-Disposition", mime.FormatMediaType("attachment", map[string]string{"filename": path.Base(c.info.Name)}))
	h.Set("ETag", fmt.Sprintf(`"%x-%x-%x"`, size, c.info.Modified.UnixNano(), c.info.Changed.UnixNano()))
	http.ServeContent(w, c.request, "", c.info.Modified, io.NewSectionReader(c.file, 0, size))
	return nil
}

func (c content) VisitReadFileResponse(w http.ResponseWriter) error { return c.visit(w) }
func (c content) VisitStatFileResponse(w http.ResponseWriter) error { return c.visit(w) }

func (s *server) ReadFile(ctx context.Context, r ReadFileRequestObject) (ReadFileResponseObject, error) {
	return s.content(ctx, r.Pool, r.File)
}

func (s *server) StatFile(ctx context.Context, r StatFileRequestObject) (StatFileResponseObject, error) {
	return s.content(ctx, r.Pool, r.File)
}

func (s *server) SumFile(ctx context.Context, r SumFileRequestObject) (SumFileResponseObject, error) {
	sum, size, err := s.service.Files.Sum(ctx, r.Pool, r.Params.Path)
	return SumFile200JSONResponse{Path: r.Params.Path, Size: size, Sha256: hex.EncodeToString(sum[:])}, err
}

func viewUpload(a arrivals.Arrival) spec.Upload {
	out := spec.Upload{
		Id: a.ID, Pool: a.Pool, Path: a.Path, Content: a.Content(), Size: a.Size, PieceSize: upload.PieceSize, By: a.By, Begun: a.Begun,
		State: spec.UploadState(a.State), Here: []string{}, Compared: a.Compared, Problem: a.Problem,
	}
	if a.State == arrivals.Arriving {
		out.Here = make([]string, len(a.Here))
	} else { // it is asked for often, and all are here
		a.Here = nil
	}
	for n, sum := range a.Here {
		if sum != (upload.Sum{}) {
			out.Here[n] = hex.EncodeToString(sum[:])
		}
	}
	return out
}

func (s *server) ListUploads(ctx context.Context, r ListUploadsRequestObject) (ListUploadsResponseObject, error) {
	all, err := s.service.Arrivals.List(ctx, r.Pool)
	return ListUploads200JSONResponse{Items: views(all, viewUpload)}, err
}

func (s *server) BeginUpload(ctx context.Context, r BeginUploadRequestObject) (BeginUploadResponseObject, error) {
	a, err := s.service.Arrivals.Begin(ctx, r.Pool, arrivals.Wanted{
		Key: or(r.Body.Key, ""), Path: or(r.Body.Path, ""), Size: r.Body.Size, Room: or(r.Body.Room, 0), By: whoAsks(ctx),
	})
	return BeginUpload201JSONResponse(viewUpload(a)), err
}

func (s *server) GetUpload(ctx context.Context, r GetUploadRequestObject) (GetUploadResponseObject, error) {
	a, err := s.service.Arrivals.Get(ctx, r.Pool, r.Upload)
	return GetUpload200JSONResponse(viewUpload(a)), err
}

func (s *server) DropUpload(ctx context.Context, r DropUploadRequestObject) (DropUploadResponseObject, error) {
	return DropUpload204Response{}, s.service.Arrivals.Drop(ctx, r.Pool, r.Upload)
}

func (s *server) PutPiece(ctx context.Context, r PutPieceRequestObject) (PutPieceResponseObject, error) {
	text, ok := strings.CutPrefix(r.Params.ContentDigest, "sha-256=:")
	sum, err := base64.StdEncoding.DecodeString(strings.TrimSuffix(text, ":"))
	if !ok || err != nil || len(sum) != len(upload.Sum{}) {
		return nil, fmt.Errorf("%w: Content-Digest is written sha-256=:BASE64: (RFC 9530)", records.ErrInvalid)
	}
	var piece []byte
	if r.Body != nil {
		if piece, err = io.ReadAll(r.Body); err != nil {
			return nil, fmt.Errorf("%w: reading piece %d: %w", records.ErrInvalid, r.Piece, err)
		}
	}
	return PutPiece204Response{}, s.service.Arrivals.Put(ctx, r.Pool, r.Upload, r.Piece, piece, upload.Sum(sum))
}

func (s *server) EndUpload(ctx context.Context, r EndUploadRequestObject) (EndUploadResponseObject, error) {
	root, err := hex.DecodeString(r.Body.Digest)
	if err != nil || len(root) != len(upload.Sum{}) {
		return nil, fmt.Errorf("%w: a digest has 64 hexadecimal digits", records.ErrInvalid)
	}
	a, err := s.service.Arrivals.End(ctx, r.Pool, r.Upload, upload.Sum(root))
	return EndUpload202JSONResponse(viewUpload(a)), err
}
