package release_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"

	"mexalt/demo"
	"mexalt/release"
	"mexalt/release/proof"
	"mexalt/source"
)

// A release file is loaded, run, and what it made confirmed by its manifest.
func ExampleFile_Run() {
	folder, err := os.MkdirTemp("", "gauge")
	if err != nil {
		fmt.Println(err)
		return
	}
	defer os.RemoveAll(folder)
	if err := os.CopyFS(folder, demo.Files()); err != nil {
		fmt.Println(err)
		return
	}
	ctx := context.Background()
	files := &source.Files{Digest: true}
	f, err := release.Load(files, filepath.Join(folder, "tg4.release.toml"))
	if err != nil {
		fmt.Println(err)
		return
	}
	result, err := f.Run(ctx, files, release.Options{Tool: "example"})
	if err != nil {
		fmt.Println(err)
		return
	}
	for _, out := range result.Products[0].Outputs {
		fmt.Println(filepath.Base(out.File), out.Format)
	}
	c, err := proof.Confirm(&source.Files{}, result.Manifest, proof.Confirming{Tool: "example"}, release.Again(ctx, release.Options{}))
	fmt.Println(c.Confirmed(), err)
	// Output:
	// tg4-3.1.0.hex hex
	// tg4-3.1.0-update.uf2 uf2
	// true <nil>
}
