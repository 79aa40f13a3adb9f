package engine

import (
	"context"
	"fmt"
	"io"

	"github.com/containerd/errdefs"
)

// ImageError tells that an engine has no such image.
type ImageError struct{ Name, Where string }

func (e *ImageError) Error() string {
	return fmt.Sprintf("there is no image %q at %s", e.Name, e.Where)
}

// ImageID gives the digest by which the engine knows an image, sha256:….
func (e *Engine) ImageID(ctx context.Context, name string) (string, error) {
	found, err := e.api.ImageInspect(ctx, name)
	if errdefs.IsNotFound(err) {
		return "", &ImageError{name, e.where}
	}
	if err != nil {
		return "", fmt.Errorf("look up image %s: %w", name, err)
	}
	return found.ID, nil
}

// SaveImage writes an image as engines save it.
func (e *Engine) SaveImage(ctx context.Context, name string, out io.Writer) error {
	in, err := e.api.ImageSave(ctx, []string{name})
	if err == nil {
		_, err = io.Copy(out, in)
		in.Close()
	}
	if err != nil {
		return fmt.Errorf("save image %s: %w", name, err)
	}
	return nil
}
