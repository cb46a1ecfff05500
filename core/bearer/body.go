package bearer

import (
	"bytes"
	"fmt"
	"mime"
	"mime/multipart"
	"net/textproto"
	"os"
	"path/filepath"
	"strings"
)

// FormBody encodes pairs as a form body, in their order.
func FormBody(pairs []Pair) (body []byte, contentType string) {
	var parts []string
	for _, p := range pairs {
		parts = append(parts, encodeStrict(p.Name)+"="+encodeStrict(p.Value))
	}
	return []byte(strings.Join(parts, "&")), formType
}

// maxUpload bounds a file that is sent as part of a multipart body, in bytes.
const maxUpload = 64 << 20

// UploadBody makes a multipart/form-data body (RFC 7578). A value that begins
// with @ names a file, whose content and name are sent; read opens it.
func UploadBody(pairs []Pair, read func(path string) ([]byte, error)) (body []byte, contentType string, err error) {
	var b bytes.Buffer
	w := multipart.NewWriter(&b)
	for _, p := range pairs {
		path, isFile := strings.CutPrefix(p.Value, "@")
		if !isFile {
			if err := w.WriteField(p.Name, p.Value); err != nil {
				return nil, "", err
			}
			continue
		}
		raw, err := read(path)
		if err != nil {
			return nil, "", fmt.Errorf("the file for %s could not be read: %w", p.Name, err)
		}
		h := textproto.MIMEHeader{}
		h.Set("Content-Disposition", multipart.FileContentDisposition(p.Name, filepath.Base(path)))
		h.Set("Content-Type", typeOf(path))
		part, err := w.CreatePart(h)
		if err != nil {
			return nil, "", err
		}
		if _, err := part.Write(raw); err != nil {
			return nil, "", err
		}
	}
	if err := w.Close(); err != nil { // the end of the last part is part of the body
		return nil, "", err
	}
	return b.Bytes(), w.FormDataContentType(), nil
}

func typeOf(path string) string {
	if t := mime.TypeByExtension(filepath.Ext(path)); t != "" {
		return t
	}
	return "application/octet-stream"
}

// ReadUpload reads a file to send, within bounds.
func ReadUpload(path string) ([]byte, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if info.Size() > maxUpload {
		return nil, fmt.Errorf("%s is larger than %d MiB", path, maxUpload>>20)
	}
	return os.ReadFile(path)
}
