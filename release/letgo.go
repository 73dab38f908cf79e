package release

import (
	"fmt"
	"hash/maphash"
	"io"
	"slices"
	"sync"

	"mexalt/memory"
	"mexalt/release/proof"
)

// mostKept is how many bytes of images a run keeps at the most until all products are
// checked: those of further products are let go, and built again to be written.
const mostKept = 4 << 20

// letGo is what stands for a product's image that is not kept.
type letGo struct {
	build func() (*Product, error)
	sum   uint64        // of the image, by quickSum
	proof proof.Product // what the manifest says, but for the outputs

	mu   sync.Mutex
	made *Product // built again, as long as outputs are to be written
	left int      // how many these are
}

// letGo forgets the product's image. Its outputs build it again when they are written, and
// hold it against the one that was checked.
func (p *Product) letGo(folder string, build func() (*Product, error)) {
	if p.problems.Errors() > 0 || len(p.Checked.Counting()) > 0 {
		return // nothing will be written
	}
	p.let = &letGo{build: build, sum: quickSum(p.Image), proof: p.imageProof(folder), left: len(p.files)}
	for i := range p.files {
		p.files[i].Write = func(w io.Writer) error { return p.let.write(i, w) }
	}
	p.Image = nil
	checked := *p.Checked
	checked.Whole, checked.Parts = nil, slices.Clone(checked.Parts)
	for i := range checked.Parts {
		checked.Parts[i].Image = nil
	}
	p.Checked = &checked
}

var quickSeed = maphash.MakeSeed()

// quickSum is a keyed hash of an image's runs, by which a run of the program knows an image
// again; it is no proof for anybody else.
func quickSum(m *memory.Image) uint64 {
	var h maphash.Hash
	h.SetSeed(quickSeed)
	for _, r := range m.Runs() {
		maphash.WriteComparable(&h, r.First)
		maphash.WriteComparable(&h, len(r.Data))
		h.Write(r.Data)
	}
	return h.Sum64()
}

// image returns the product's image, built again where it was let go; nil is that it is
// not what it was any more.
func (p *Product) image() *memory.Image {
	if p.let == nil {
		return p.Image
	}
	made, err := p.let.again()
	if err != nil {
		return nil
	}
	return made.Image
}

// again builds the product again.
func (l *letGo) again() (*Product, error) {
	made, err := l.build()
	if err != nil {
		return nil, err
	}
	if err := made.problems.Err(); err != nil {
		return nil, err
	}
	if made.Image == nil || quickSum(made.Image) != l.sum {
		return nil, fmt.Errorf("an input was modified while the release was built; run it again")
	}
	return made, nil
}

// write writes an output of the product.
func (l *letGo) write(i int, w io.Writer) error {
	l.mu.Lock()
	if l.made == nil {
		made, err := l.again()
		if err != nil {
			l.mu.Unlock()
			return err
		}
		l.made = made
	}
	made := l.made
	l.mu.Unlock()
	err := made.files[i].Write(w)
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.left--; l.left <= 0 {
		l.made = nil
	}
	return err
}
