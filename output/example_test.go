package output_test

import (
	"fmt"
	"io"
	"os"
	"path/filepath"

	"mexalt/output"
	"mexalt/source"
)

// Files appear together, or none does and all that was there stays.
func ExampleWrite() {
	folder, err := os.MkdirTemp("", "gauge")
	if err != nil {
		fmt.Println(err)
		return
	}
	defer os.RemoveAll(folder)
	os.WriteFile(filepath.Join(folder, "a.hex"), []byte("old"), 0o644)
	file := func(name string, write func(io.Writer) error) output.File {
		return output.File{Name: filepath.Join(folder, name), Write: write}
	}
	_, err = output.Write(&source.Files{}, []output.File{
		file("a.hex", func(to io.Writer) error { _, err := io.WriteString(to, "new"); return err }),
		file("b.hex", func(io.Writer) error { return fmt.Errorf("a checksum does not fit") }),
	})
	fmt.Println(err != nil)
	text, _ := os.ReadFile(filepath.Join(folder, "a.hex"))
	entries, _ := os.ReadDir(folder)
	fmt.Println(string(text), len(entries))
	// Output:
	// true
	// old 1
}
