// Package rehearsal programs a simulated chip by a plan: what a programmer does at the
// bench, or a bootloader in the field. [Rehearse] tells what each act does and how long
// it takes, and what would start after it; [SweepOf] what each moment of a power cut
// would leave behind, and how many cuts the plan bears.
package rehearsal
