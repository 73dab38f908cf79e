package cli

type example struct {
	command string
	lines   [2]string
}

// examples are command lines that help shows, two a command. They run in the
// demo's folder, in the order in which they stand, once its releases are made.
var examples = []example{
	{"inspect", [2]string{"mexalt inspect bootloader.hex gauge-app.s19", "mexalt inspect station.elf -device brindle-m32-512"}},
	{"view", [2]string{"mexalt view gauge-app.s19 -in 0x0030,64 -origin", `mexalt view gauge-app.s19 -find "TG-1 gauge"`}},
	{
		"map",
		[2]string{
			"mexalt map bootloader.hex gauge-app.s19 -device brindle-b8-32",
			"mexalt map bootloader.hex gauge-app.s19 -device brindle-b8-32 -o map.png",
		},
	},
	{
		"compare",
		[2]string{
			"mexalt compare gauge-app.s19 gauge-app-2.s19",
			"mexalt compare tg1-harbour-2.4.1.hex tg1-harbour-2.4.1.s37 -holes FF -device brindle-b8-32",
		},
	},
	{
		"merge",
		[2]string{
			"mexalt merge bootloader.hex gauge-app.s19 -o both.hex",
			"mexalt merge bootloader.hex gauge-app.s19 calibration.bin@calibration.first -device brindle-b8-32 -o factory.hex",
		},
	},
	{
		"split",
		[2]string{
			`mexalt split tg1-harbour-2.4.1.hex -by regions -device brindle-b8-32 -o "{name}.hex"`,
			`mexalt split gauge-app.s19 -by size 8K -o "part-{n}.hex"`,
		},
	},
	{
		"place",
		[2]string{
			"mexalt place calibration.bin -at 0x400000 -o calibration.hex",
			"mexalt place calibration.bin -into calibration -device brindle-b8-32 -o calibration.hex",
		},
	},
	{
		"cut",
		[2]string{
			"mexalt cut tg1-harbour-2.4.1.hex -keep application -device brindle-b8-32 -o application.hex",
			"mexalt cut gauge-app.s19 -drop 0x0000..0x003F -o rest.s19",
		},
	},
	{
		"fill",
		[2]string{
			"mexalt fill gauge-app.s19 -in 0x0000,30K -o filled.s19",
			"mexalt fill gauge-app.s19 -device brindle-b8-32 -pages -erased -o filled.s19",
		},
	},
	{
		"patch",
		[2]string{
			`mexalt patch gauge-app.s19 -at 0x0034 -text "TG-1 gauge 2.4.2" -o patched.s19`,
			"mexalt patch gauge-app.s19 -at 0x0040 -text v2 -size 8 -number 0x1234 -size 4 -order big -o header.s19",
		},
	},
	{"convert", [2]string{"mexalt convert gauge-app.s19 -to hex -o gauge-app.hex",
		"mexalt convert calibration.bin -to c -o calibration.c"}},
	{
		"checksum",
		[2]string{
			"mexalt checksum gauge-app.s19 -kind crc-16/modbus -value",
			"mexalt checksum gauge-app.s19 -store image.last+1 -grow -o summed.s19",
		},
	},
	{
		"seal",
		[2]string{
			"mexalt seal tg1-harbour-2.4.1.hex -device brindle-b8-32 -o sealed.hex",
			"mexalt seal tg1-harbour-2.4.1.hex -device brindle-b8-32 -only application_crc -dry-run -o sealed.hex",
		},
	},
	{
		"identify",
		[2]string{"mexalt identify calibration.bin -value 0x4FE9",
			"mexalt identify tg1-harbour-2.4.1.hex -at 0x77FC -size 4 -in 0x0000..0x77FB"},
	},
	{
		"check",
		[2]string{
			"mexalt check tg1-harbour-2.4.1.hex -device brindle-b8-32",
			"mexalt check gauge-app-2.s19 -device brindle-b8-32 -region application -format sarif -o report.sarif",
		},
	},
	{"device", [2]string{"mexalt device brindle-b8-32 -explain clock_word=0x82", `mexalt device brindle-b8-32 -compose "boot_size=1 KiB"`}},
	{
		"config",
		[2]string{
			`mexalt config -device brindle-b8-32 -set "boot_size=1 KiB" -set boot_start=0 -o words.hex`,
			"mexalt config tg1-harbour-2.4.1.hex -device brindle-b8-32",
		},
	},
	{"release", [2]string{"mexalt release tg1.release.toml -dry-run", "mexalt release tg1-line.release.toml -units units.csv"}},
	{"confirm", [2]string{"mexalt confirm tg1.manifest.json", "mexalt confirm tg1.manifest.json -outputs-only -json"}},
	{
		"explain",
		[2]string{"mexalt explain tg1-harbour-2.4.1.hex -at 0x77F8..0x7803",
			"mexalt explain tg1-harbour-2.4.1.hex -from gauge-app.s19:758"},
	},
	{"match", [2]string{"mexalt match tg1-harbour-2.4.1-update.bin", "mexalt match bootloader.hex . -json"}},
	{
		"rehearse",
		[2]string{
			`mexalt rehearse tg1-harbour-2.4.1.hex -device brindle-b8-32 -fault "page-dead 0x4000"`,
			"mexalt rehearse tg4-3.1.0.hex -from tg4-3.0.0.hex -device brindle-m32-512 -sweep",
		},
	},
	{
		"read",
		[2]string{
			"mexalt read localhost:3333 -device brindle-b8-32 -o back.hex",
			"mexalt read localhost:3333 -device brindle-b8-32 -against tg1-harbour-2.4.1.hex",
		},
	},
	{"demo", [2]string{"mexalt demo", "mexalt demo -o elsewhere"}},
	{"help", [2]string{"mexalt help formats", "mexalt help partial-page"}},
	{"version", [2]string{"mexalt version", "mexalt version -v"}},
	{"completion", [2]string{"mexalt completion bash >mexalt.bash", "mexalt completion zsh >_mexalt"}},
}
