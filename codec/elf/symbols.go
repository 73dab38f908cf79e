package elf

import (
	"debug/elf"
	"encoding/binary"
	"fmt"
	"strings"

	"mexalt/codec/format"
)

// symbols returns what reads the symbols of the symbol table (gABI, Symbol
// Table), at the addresses where they load, or run. Names of sections, files
// and thread-local data, and marks of what is code or data, are left out.
func (f *file) symbols(virtual bool) func() ([]format.Symbol, error) {
	return func() ([]format.Symbol, error) {
		var all []format.Symbol
		for n := range f.sections {
			if s := &f.sections[n].Section64; elf.SectionType(s.Type) == elf.SHT_SYMTAB {
				var err error
				if all, err = f.symbolTable(all, s, virtual); err != nil {
					return nil, err
				}
			}
		}
		return all, nil
	}
}

func (f *file) symbolTable(all []format.Symbol, s *elf.Section64, virtual bool) ([]format.Symbol, error) {
	size := binary.Size(elf.Sym32{})
	if f.wide {
		size = binary.Size(elf.Sym64{})
	}
	data, ok := f.contents(s)
	if !ok || s.Entsize != uint64(size) || uint64(s.Link) >= uint64(len(f.sections)) {
		return nil, fmt.Errorf("its symbol table is damaged")
	}
	contents, ok := f.contents(&f.sections[s.Link].Section64)
	names := string(contents)
	if !ok {
		return nil, fmt.Errorf("its table of symbols' names reaches beyond the file's end")
	}
	for ; len(data) >= size; data = data[size:] {
		var y elf.Sym64
		if f.wide {
			y = decode[elf.Sym64](f, data)
		} else {
			z := decode[elf.Sym32](f, data)
			y = elf.Sym64{Name: z.Name, Info: z.Info, Other: z.Other, Shndx: z.Shndx, Value: uint64(z.Value), Size: uint64(z.Size)}
		}
		kind := elf.ST_TYPE(y.Info)
		switch kind {
		case elf.STT_SECTION, elf.STT_FILE, elf.STT_TLS:
			continue
		}
		name, ok := nameIn(names, y.Name)
		if !ok {
			return nil, fmt.Errorf("the name of a symbol is beyond the table of names, or has more than %d bytes", mostName)
		}
		at := elf.SectionIndex(y.Shndx)
		if name == "" || at == elf.SHN_UNDEF || at == elf.SHN_COMMON || strings.HasPrefix(name, "$") || strings.HasPrefix(name, ".L") {
			continue
		}
		if elf.Machine(f.header.Machine) == elf.EM_ARM && kind == elf.STT_FUNC {
			y.Value &^= 1 // the bit that says which instruction set (ELF for the Arm Architecture, 5.5.3)
		}
		symbol := format.Symbol{
			Name:   name,
			First:  y.Value,
			Size:   y.Size,
			Data:   kind == elf.STT_FUNC || kind == elf.STT_OBJECT,
			Global: elf.ST_BIND(y.Info) != elf.STB_LOCAL,
		}
		if int(at) < len(f.sections) && at < elf.SHN_LORESERVE {
			f.load(&symbol, &f.sections[at].Section64, virtual)
		}
		all = append(all, symbol)
	}
	return all, nil
}

// load puts a symbol where its section loads, if it does.
func (f *file) load(symbol *format.Symbol, s *elf.Section64, virtual bool) {
	if elf.SectionFlag(s.Flags)&elf.SHF_ALLOC == 0 || elf.SectionType(s.Type) == elf.SHT_NOBITS || s.Size == 0 {
		return
	}
	// A label may stand right behind the last byte.
	if symbol.First-s.Addr > s.Size || symbol.Size > s.Size-(symbol.First-s.Addr) {
		return
	}
	if _, ok := f.at(s.Off, s.Size); !ok {
		return
	}
	p := f.segmentOf(s)
	if p == nil {
		return
	}
	symbol.Loads = true
	if !virtual {
		symbol.First += p.Paddr + (s.Off - p.Off) - s.Addr
	}
}
