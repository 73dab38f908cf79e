/* A loader: starts the application if its CRC-32 is right, and says so. */
#include "target.h"

static uint32_t crc_of_application(void)
{
	uint32_t crc = 0xFFFFFFFFul;
	for (uint32_t at = APPLICATION_FIRST; at < APPLICATION_CRC; at++) {
		crc ^= flash_byte(at);
		for (uint8_t bit = 0; bit < 8; bit++)
			crc = crc & 1 ? crc >> 1 ^ 0xEDB88320ul : crc >> 1;
	}
	return ~crc;
}

int main(void)
{
	uint32_t stored = 0;
	for (uint8_t i = 0; i < 4; i++)
		stored |= (uint32_t)flash_byte(APPLICATION_CRC + i) << 8 * i;
	send_text("loader\n");
	if (crc_of_application() != stored) {
		send_text("refused: the application's CRC is wrong\n");
		for (;;)
			;
	}
	start(APPLICATION_FIRST);
	for (;;)
		;
}
