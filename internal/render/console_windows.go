package render

import (
	"os"
	"slices"

	"golang.org/x/sys/windows"
)

// withSigns are the code pages that have the signs of tables and bars: UTF-8, and those of
// the first personal computers and their kin.
var withSigns = []uint32{65001, 437, 737, 775, 850, 852, 855, 857, 858, 860, 861, 862, 863, 864, 865, 866, 869}

// console reports whether a console takes escapes, for colours, after it was asked to, and
// can show the signs of tables and bars.
func console(f *os.File) (escapes, signs bool) {
	h := windows.Handle(f.Fd())
	var mode uint32
	if err := windows.GetConsoleMode(h, &mode); err == nil {
		escapes = windows.SetConsoleMode(h, mode|windows.ENABLE_PROCESSED_OUTPUT|windows.ENABLE_VIRTUAL_TERMINAL_PROCESSING) == nil
	}
	page, err := windows.GetConsoleOutputCP()
	return escapes, err == nil && slices.Contains(withSigns, page)
}
