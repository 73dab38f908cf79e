#include "tide.h"

const int32_t surge_mm = SURGE;

/* One quarter of a sine in 64 steps, of 1024. */
static const int16_t quarter[65] = {
	0, 25, 50, 75, 100, 125, 150, 175, 200, 224, 249, 273, 297, 321, 345, 369, 392, 415, 438, 460, 483, 505, 526, 548, 569, 590, 610, 630, 650, 669, 688, 706, 724,
	742, 759, 775, 792, 807, 822, 837, 851, 865, 878, 891, 903, 915, 926, 936, 946, 955, 964, 972, 980, 987, 993, 999, 1004, 1009, 1013, 1016, 1019, 1021, 1023, 1024, 1024,
};

/* The constituents of the harbour's tide. */
static struct constituent {
	uint32_t period_seconds;
	int16_t amplitude_mm;
	uint16_t phase; /* 256 is a whole turn */
} constituents[] = {
	{ 44714, 1310, 17 },
	{ 43200, 402, 201 },
	{ 45570, 251, 96 },
	{ 86164, 118, 44 },
};

static int32_t sine(uint32_t turn)
{
	uint32_t step = turn & 63;
	switch (turn >> 6 & 3) {
	case 0:
		return quarter[step];
	case 1:
		return quarter[64 - step];
	case 2:
		return -quarter[step];
	}
	return -quarter[64 - step];
}

int32_t tide_height(uint32_t seconds)
{
	int32_t sum = 0;
	for (unsigned i = 0; i < sizeof constituents / sizeof *constituents; i++) {
		uint32_t into = seconds % constituents[i].period_seconds;
		uint32_t turn = (into << 8) / constituents[i].period_seconds + constituents[i].phase;
		sum += constituents[i].amplitude_mm * sine(turn) / 1024;
	}
	return sum;
}
