/* What the programs need of each machine: where their regions lie, how a
 * character is sent, how another program is started. */
#ifndef TARGET_H
#define TARGET_H

#include <stdint.h>

#if defined(__AVR__)
#include <avr/io.h>
#include <avr/pgmspace.h>
#define APPLICATION_FIRST 0x1000ul
#define APPLICATION_END   0x4000ul
static inline uint8_t flash_byte(uint32_t at) { return pgm_read_byte((uint16_t)at); }
static inline void send(char c)
{
	UCSR0B = _BV(TXEN0);
	while (!(UCSR0A & _BV(UDRE0)))
		;
	UDR0 = c;
}
static inline void start(uint32_t at) { ((void (*)(void))(uint16_t)(at / 2))(); }

#elif defined(__arm__)
#define APPLICATION_FIRST 0x4000ul
#define APPLICATION_END   0x8000ul
static inline uint8_t flash_byte(uint32_t at) { return *(volatile const uint8_t *)at; }
static inline void send(char c)
{
	volatile uint32_t *uart = (volatile uint32_t *)0x40004000;
	uart[2] = 1; /* transmit enable */
	while (uart[1] & 1)
		;
	uart[0] = (uint8_t)c;
}
static inline void start(uint32_t at) { ((void (*)(void))(((volatile const uint32_t *)at)[1]))(); }

#elif defined(__riscv)
#define APPLICATION_FIRST 0x80004000ul
#define APPLICATION_END   0x80008000ul
static inline uint8_t flash_byte(uint32_t at) { return *(volatile const uint8_t *)at; }
static inline void send(char c) { *(volatile uint8_t *)0x10000000 = (uint8_t)c; }
static inline void start(uint32_t at) { ((void (*)(void))at)(); }
#endif

#ifndef APPLICATION_CRC
#define APPLICATION_CRC (APPLICATION_END - 4)
#endif

static inline void send_text(const char *text)
{
	while (*text)
		send(*text++);
}

#endif
