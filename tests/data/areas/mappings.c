/* Files behind memory, memory without a name, and what is asked of pages. */
#include "tell.h"
#include <sys/mman.h>

static void show(int fd) {
    char text[64] = "";
    long count = pread(fd, text, 63, 0);
    printf("%ld \"%s\"\n", count, text);
}

int main(void) {
    int fd = open("log", O_RDWR | O_CREAT, 0600), reads = open("log", O_RDONLY);
    long page = 4096;
    write(fd, "02:40 fog", 9);
    char *shared = mmap(NULL, page, PROT_READ | PROT_WRITE, MAP_SHARED, fd, 0);
    char *own = mmap(NULL, page, PROT_READ | PROT_WRITE, MAP_PRIVATE, fd, 0);
    printf("%s %s\n", shared, own);
    memcpy(shared, "02:41", 5);
    show(fd);
    memcpy(own, "02:42", 5);
    show(fd);
    pwrite(fd, "03", 2, 0);
    printf("%.5s %.5s\n", shared, own);
    shared[12] = 'x';
    show(fd);
    tell("longer", ftruncate(fd, 14));
    show(fd);
    tell("shorter", ftruncate(fd, 5));
    tell("longer", ftruncate(fd, 9));
    printf("%d %d\n", shared[4], shared[6]);
    tell("msync", msync(shared, page, MS_SYNC));
    tell("msync both", msync(shared, page, MS_SYNC | MS_ASYNC));
    tell("msync odd", msync(shared + 1, page, MS_SYNC));
    tell("msync nothing", msync((char *)0x10000000, page, MS_SYNC));
    tell("writer of reader", mmap(NULL, page, PROT_WRITE, MAP_SHARED, reads, 0) == MAP_FAILED ? -1 : 0);
    tell("own of reader", mmap(NULL, page, PROT_WRITE, MAP_PRIVATE, reads, 0) == MAP_FAILED ? -1 : 0);
    tell("odd offset", mmap(NULL, page, PROT_READ, MAP_PRIVATE, fd, 100) == MAP_FAILED ? -1 : 0);
    tell("no length", mmap(NULL, 0, PROT_READ, MAP_PRIVATE, fd, 0) == MAP_FAILED ? -1 : 0);
    tell("no kind", mmap(NULL, page, PROT_READ, 0, fd, 0) == MAP_FAILED ? -1 : 0);
    tell("unmap", munmap(shared, page));
    own = mmap(NULL, 2 * page, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
    own[0] = own[page] = 'x';
    tell("not needed", madvise(own, page, MADV_DONTNEED));
    printf("%d %d\n", own[0], own[page]);
    tell("advice", madvise(own, page, 77));
    tell("advice odd", madvise(own + 1, page, 0));
    tell("mlock", mlock(own, 100));
    tell("mlock nothing", mlock((char *)0x10000000, page));
    tell("munlock", munlock(own, 100));
    tell("mlockall", mlockall(0));
    tell("munlockall", munlockall());
    unsigned char in[2] = {0};
    own[0] = 'x';
    tell("mincore", mincore(own, 2 * page, in));
    printf("%d %d\n", in[0] & 1, in[1] & 1);
    tell("mincore odd", mincore(own + 1, page, in));
    tell("mincore nothing", mincore((char *)0x10000000, page, in));

    int memory = memfd_create("tide", MFD_CLOEXEC);
    tell("memory", memory >= 0);
    tell("write", write(memory, "high", 4));
    struct stat about;
    tell("stat", fstat(memory, &about));
    printf("%o %ld %ld\n", about.st_mode, (long)about.st_size, (long)about.st_nlink);
    tell("longer", ftruncate(memory, page));
    char *tide = mmap(NULL, page, PROT_READ | PROT_WRITE, MAP_SHARED, memory, 0);
    char *again = mmap(NULL, page, PROT_READ, MAP_SHARED, memory, 0);
    strcpy(tide, "low");
    show(memory);
    printf("%d\n", again != tide);
    tell("flags", memfd_create("tide", 0x8000));
    char name[300];
    memset(name, 'n', 299), name[299] = 0;
    tell("name", memfd_create(name, 0));
    tell("close", close(memory));
    printf("%s\n", tide);

    char *moved = mmap(NULL, 2 * page, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
    moved[page] = 'm';
    moved = mremap(moved, 2 * page, 64 * page, MREMAP_MAYMOVE);
    printf("%d %d\n", moved[page], moved[63 * page]);
    tell("shrink", mremap(moved, 64 * page, page, 0) == moved ? 0 : -1);
    tell("odd", mremap(moved + 1, page, page, 0) == MAP_FAILED ? -1 : 0);
    tell("to nothing", mremap(moved, page, 0, 0) == MAP_FAILED ? -1 : 0);
    return 0;
}
