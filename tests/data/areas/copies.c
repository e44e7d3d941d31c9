/* Copying between files, and advice. */
#include "tell.h"
#include <sys/sendfile.h>
#include <sys/uio.h>

static void show(int fd) {
    char text[64] = "";
    long count = pread(fd, text, 63, 0);
    printf("%ld \"%s\" at %ld\n", count, text, (long)lseek(fd, 0, SEEK_CUR));
}

int main(void) {
    int a = open("a", O_RDWR | O_CREAT, 0600), b = open("b", O_RDWR | O_CREAT, 0600);
    int reads = open("a", O_RDONLY), adds = open("b", O_WRONLY | O_APPEND);
    write(a, "fog from the north", 18);
    lseek(a, 4, SEEK_SET);
    tell("sendfile", sendfile(b, a, NULL, 4));
    show(a), show(b);
    off_t offset = 9;
    tell("with offset", sendfile(b, a, &offset, 100));
    printf("%ld\n", (long)offset);
    show(a), show(b);
    tell("to reader", sendfile(reads, a, NULL, 4));
    tell("to appender", sendfile(adds, a, NULL, 4));
    tell("from output", sendfile(b, 1, NULL, 4));
    offset = -1;
    tell("negative", sendfile(b, a, &offset, 4));
    tell("nowhere", sendfile(b, a, (off_t *)8, 4));
    tell("bad", sendfile(b, 99, NULL, 4));
    lseek(a, 0, SEEK_SET), lseek(b, 0, SEEK_SET);
    loff_t from = 4, to = 20;
    tell("copy_file_range", copy_file_range(a, NULL, b, NULL, 3, 0));
    show(a), show(b);
    tell("with offsets", copy_file_range(a, &from, b, &to, 30, 0));
    printf("%ld %ld\n", (long)from, (long)to);
    show(b);
    tell("flags", copy_file_range(a, NULL, b, NULL, 3, 7));
    tell("to appender", copy_file_range(a, NULL, adds, NULL, 3, 0));
    tell("to reader", copy_file_range(b, NULL, reads, NULL, 3, 0));
    from = 0, to = 2;
    tell("overlap", copy_file_range(a, &from, a, &to, 5, 0));
    int here = open(".", O_RDONLY);
    tell("directory", copy_file_range(here, NULL, b, NULL, 3, 0));
    tell("bad", copy_file_range(99, NULL, b, NULL, 3, 0));
    tell("advice", posix_fadvise(a, 0, 0, POSIX_FADV_RANDOM));
    tell("no advice", posix_fadvise(a, 0, 0, 9));
    tell("advice to none", posix_fadvise(99, 0, 0, 0));
    tell("readahead", readahead(a, 0, 10));
    tell("readahead of writer", readahead(adds, 0, 10));
    tell("sync range", sync_file_range(a, 0, 4, 2));
    tell("sync range flags", sync_file_range(a, 0, 4, 64));
    tell("syncfs", syncfs(a));
    tell("syncfs of none", syncfs(99));
    char text[8] = "";
    struct iovec part = {text, 3};
    lseek(a, 4, SEEK_SET);
    tell("preadv2", preadv2(a, &part, 1, -1, 0));
    tell("preadv2 at", preadv2(a, &part, 1, 0, 0));
    puts(text);
    tell("preadv2 flags", preadv2(a, &part, 1, 0, 0x4000));
    tell("pwritev2", pwritev2(a, &part, 1, 30, 0));
    show(a);
    tell("close_range", syscall(SYS_close_range, 9, 4, 0));
    tell("close_range flags", syscall(SYS_close_range, 4, 9, 64));
    tell("close_range", syscall(SYS_close_range, b, 1000, 0));
    tell("closed", write(b, "x", 1));
    return 0;
}
