package proof_test

import (
	"fmt"

	"mexalt/release/proof"
)

// Of several products, a manifest tells which one a file is meant to be.
func ExampleManifest_ProductFor() {
	m := &proof.Manifest{Products: []proof.Product{{Variant: "harbour"}, {Variant: "north"}}}
	fmt.Println(m.ProductFor("out/tg1-north-2.4.1.hex").Variant, m.ProductFor("read-back.bin").Variant)
	// Output:
	// north harbour
}
