/* Locks of files and of parts of them. */
#include "tell.h"
#include <sys/file.h>

int main(void) {
    int fd = open("log", O_RDWR | O_CREAT, 0600), reads = open("log", O_RDONLY);
    struct flock lock = {.l_type = F_WRLCK, .l_whence = SEEK_SET, .l_len = 10};
    tell("set", fcntl(fd, F_SETLK, &lock));
    tell("get", fcntl(fd, F_GETLK, &lock));
    printf("%d\n", lock.l_type == F_UNLCK);
    lock.l_type = F_WRLCK;
    tell("writer of reader", fcntl(reads, F_SETLK, &lock));
    lock.l_type = F_RDLCK;
    tell("reader", fcntl(reads, F_SETLKW, &lock));
    lock.l_type = 9;
    tell("kind", fcntl(fd, F_SETLK, &lock));
    lock.l_type = F_RDLCK, lock.l_whence = 7;
    tell("whence", fcntl(fd, F_SETLK, &lock));
    tell("nowhere", fcntl(fd, F_SETLK, (void *)8));
    tell("closed", fcntl(99, F_SETLK, &lock));
    lock.l_whence = SEEK_SET, lock.l_pid = 0;
    tell("of the file", fcntl(fd, F_OFD_SETLK, &lock));
    lock.l_type = F_UNLCK;
    tell("free", fcntl(fd, F_SETLK, &lock));
    tell("whole", flock(fd, LOCK_EX));
    tell("kind", flock(fd, 77));
    return 0;
}
