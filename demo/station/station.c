/* The application of the TG-4 harbour station: reads the gauges of a harbour,
 * foretells the tide from the tables in the second flash, and reports. A small
 * one, kept for the demo; build makes demo/data/station.elf of it. */
#include <stdint.h>

#include "tide.h"

#define GAUGES 4

/* What a board is told at the factory, and may be told again over the line. */
struct settings {
	uint16_t report_seconds;
	uint16_t gauges;
	int16_t offset_mm[GAUGES];
} settings = { 360, GAUGES, { 12, -7, 31, 0 } };

const char version[] = "TG-4 station " VERSION;

static struct reading {
	uint32_t at;
	int16_t mm;
} readings[256];
static uint32_t count;

static volatile uint32_t *const line = (volatile uint32_t *)0x40001000;
static volatile uint32_t *const gauge = (volatile uint32_t *)0x40002000;

static void say(const char *text)
{
	while (*text)
		line[1] = (uint8_t)*text++;
}

static void say_number(int32_t n)
{
	char digits[12];
	int i = 0;
	uint32_t left = n < 0 ? (uint32_t)-n : (uint32_t)n;
	do
		digits[i++] = (char)('0' + left % 10);
	while (left /= 10);
	if (n < 0)
		digits[i++] = '-';
	while (i > 0)
		line[1] = (uint8_t)digits[--i];
}

int32_t gauge_level(unsigned which)
{
	if (which >= settings.gauges)
		return 0;
	return (int32_t)(gauge[which] & 0xFFFF) - 0x8000 + settings.offset_mm[which];
}

static void report(uint32_t at)
{
	for (unsigned which = 0; which < settings.gauges; which++) {
		int32_t level = gauge_level(which);
		readings[count++ % 256] = (struct reading){ at, (int16_t)level };
		say("gauge ");
		say_number((int32_t)which);
		say(": ");
		say_number(level);
		say(" mm, foretold ");
		say_number(tide_height(at));
		say(level - tide_height(at) > surge_mm ? " mm, surge\n" : " mm\n");
	}
}

int main(void)
{
	say(version);
	say("\n");
	for (uint32_t at = 0;; at += settings.report_seconds)
		report(at);
}
