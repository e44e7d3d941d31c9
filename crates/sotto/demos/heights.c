#include <stdio.h>

static int heights[] = { 12, 40, 33, 7, 52 };

int highest(const int *table, int count)
{
    int best = table[0];
    for (int i = 1; i < count; i++)
        if (table[i] > best)
            best = table[i];
    return best;
}

int main(void)
{
    int best = highest(heights, 5);
    printf("the highest tide at Skerry: %d dm\n", best);
    return best;
}
