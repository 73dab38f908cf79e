/* A loader: starts the application if its CRC-32 is right, and says so. With SLOTS, of
 * two the one with the higher rank, which stands behind its CRC. */
#include "target.h"

static uint32_t crc_of(uint32_t first, uint32_t end)
{
	uint32_t crc = 0xFFFFFFFFul;
	for (uint32_t at = first; at < end; at++) {
		crc ^= flash_byte(at);
		for (uint8_t bit = 0; bit < 8; bit++)
			crc = crc & 1 ? crc >> 1 ^ 0xEDB88320ul : crc >> 1;
	}
	return ~crc;
}

static uint32_t word_at(uint32_t at)
{
	uint32_t word = 0;
	for (uint8_t i = 0; i < 4; i++)
		word |= (uint32_t)flash_byte(at + i) << 8 * i;
	return word;
}

static void refuse(void)
{
	send_text("refused: the application's CRC is wrong\n");
	for (;;)
		;
}

int main(void)
{
	send_text("loader\n");
#ifdef SLOTS
	uint32_t best = 0, highest = 0;
	for (uint8_t slot = 0; slot < 2; slot++) {
		uint32_t first = APPLICATION_FIRST + slot * (uint32_t)SLOTS, crc = first + SLOTS - 8;
		uint32_t rank = word_at(crc + 4);
		if (crc_of(first, crc) == word_at(crc) && (!best || rank > highest)) {
			best = first;
			highest = rank;
		}
	}
	if (!best)
		refuse();
	start(best);
#else
	if (crc_of(APPLICATION_FIRST, APPLICATION_CRC) != word_at(APPLICATION_CRC))
		refuse();
	start(APPLICATION_FIRST);
#endif
	for (;;)
		;
}
