/* Integer arithmetic of every width, with wrap-around. */
#include <stdio.h>
#include <stdint.h>
static uint32_t mix(uint32_t a, int8_t b, uint16_t c) { return a * 2654435761u + (uint32_t)b - c; }
int main(void) {
    uint32_t sum = 1;
    for (int hour = 0; hour < 24; hour++) sum = mix(sum, (int8_t)(hour * 37), (uint16_t)(hour << 9));
    printf("tide sum %u, %d, %u\n", sum, (int8_t)sum, (uint16_t)(sum >> 3));
    return (int)(sum & 63);
}
