package engine

import (
	"context"
	"fmt"
	"io"

	"github.com/moby/moby/api/types/container"
	"github.com/moby/moby/client"
)

// Import makes an image from an archive (tar) of all that is in it.
func (e *Engine) Import(ctx context.Context, name string, archive io.Reader) error {
	said, err := e.api.ImageImport(ctx, client.ImageImportSource{Source: archive, SourceName: "-"}, name,
		client.ImageImportOptions{})
	if err == nil {
		_, err = io.Copy(io.Discard, said)
		said.Close()
	}
	if err != nil {
		return fmt.Errorf("make image %s: %w", name, err)
	}
	return nil
}

// RemoveImage removes an image that no container is made from.
func (e *Engine) RemoveImage(ctx context.Context, name string) error {
	if _, err := e.api.ImageRemove(ctx, name, client.ImageRemoveOptions{}); err != nil {
		return fmt.Errorf("remove image %s: %w", name, err)
	}
	return nil
}

// Make makes a container from an image, without a network, and starts a program in it whose standard input stays open.
// With an error it may give a container in which the program did not start.
func (e *Engine) Make(ctx context.Context, name, image string, command ...string) (*Container, error) {
	_, err := e.api.ContainerCreate(ctx, client.ContainerCreateOptions{Name: name, Image: image,
		Config:     &container.Config{Cmd: command, OpenStdin: true, NetworkDisabled: true},
		HostConfig: &container.HostConfig{NetworkMode: "none"}})
	if err != nil {
		return nil, fmt.Errorf("make container %s: %w", name, err)
	}
	c, err := e.Container(ctx, name)
	if err != nil {
		return nil, err
	}
	return c, c.Start(ctx)
}

// Remove ends a container and removes it, with all that is in it.
func (e *Engine) Remove(ctx context.Context, name string) error {
	if _, err := e.api.ContainerRemove(ctx, name, client.ContainerRemoveOptions{Force: true,
		RemoveVolumes: true}); err != nil {
		return fmt.Errorf("remove container %s: %w", name, err)
	}
	return nil
}

// Where gives the engine's address.
func (e *Engine) Where() string { return e.where }
