/* What the programs share: telling a result with its error. */
#define _GNU_SOURCE
#include <errno.h>
#include <fcntl.h>
#include <signal.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/resource.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <time.h>
#include <unistd.h>

static long tell(const char *what, long result) {
    if (result < 0)
        printf("%s: error %d\n", what, errno);
    else
        printf("%s: %ld\n", what, result);
    return result;
}
