/* Carries out calls on files, one a line of the input, and tells what came of each. */
#define _GNU_SOURCE
#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <sys/uio.h>
#include <unistd.h>

static char input[1 << 16], output[1 << 20];
static size_t filled;
static char base[4096];

static void tell(const char *text) {
    size_t length = strlen(text);
    memcpy(output + filled, text, length);
    filled += length;
}

static void number(const char *name, long long value) {
    char text[80];
    snprintf(text, sizeof text, " %s=%lld", name, value);
    tell(text);
}

static void result(long value) {
    char text[80];
    if (value < 0)
        snprintf(text, sizeof text, " error %d", errno);
    else
        snprintf(text, sizeof text, " %ld", value);
    tell(text);
}

static void bytes(const char *data, long count) {
    char text[8];
    tell(" \"");
    for (long n = 0; n < count; n++) {
        unsigned char byte = data[n];
        snprintf(text, sizeof text, byte >= 33 && byte < 127 ? "%c" : "\\%02x", byte);
        tell(text);
    }
    tell("\"");
}

static void status(int value, const struct stat *it) {
    result(value);
    if (value < 0)
        return;
    number("mode", it->st_mode);
    number("links", it->st_nlink);
    number("own", it->st_uid == getuid());
    if (!S_ISDIR(it->st_mode)) {
        number("size", it->st_size);
    }
    if (S_ISREG(it->st_mode))
        number("blocks", it->st_blocks);
    if (S_ISCHR(it->st_mode))
        number("device", it->st_rdev);
}

static int by_name(const void *a, const void *b) { return strcmp(*(char **)a, *(char **)b); }

static void list(const char *path) {
    static char buffer[32768];
    char *names[512];
    int count = 0, fd = open(path, O_RDONLY | O_DIRECTORY);
    if (fd < 0) {
        result(fd);
        return;
    }
    long got;
    static char kept[65536];
    size_t used = 0;
    while ((got = syscall(SYS_getdents64, fd, buffer, 256)) > 0)
        for (long at = 0; at < got;) {
            unsigned short length = *(unsigned short *)(buffer + at + 16);
            snprintf(kept + used, 300, "%s:%d", buffer + at + 19, buffer[at + 18]);
            names[count++] = kept + used;
            used += strlen(kept + used) + 1;
            at += length;
        }
    result(got);
    close(fd);
    qsort(names, count, sizeof *names, by_name);
    for (int n = 0; n < count; n++) {
        tell(" ");
        tell(names[n]);
    }
}

/* The flags of the input have the numbers that x86 has. */
#ifdef __aarch64__
#define LARGE 0400000
#else
#define LARGE 0100000
#endif
static const struct {
    int here, there;
} flags[] = {{O_DIRECTORY, 0200000}, {O_NOFOLLOW, 0400000}, {O_DIRECT, 040000}, {LARGE, 0100000}};

static long long translated(long long value, int to_there) {
    long long result = value & ~0740000LL;
    for (int n = 0; n < 4; n++)
        if (value & (to_there ? flags[n].here : flags[n].there))
            result |= to_there ? flags[n].there : flags[n].here;
    return result;
}

static const char *path(const char *word) { return strcmp(word, "-") ? word : ""; }

/* Pages on which the calls about memory work, and a file without a name through which memory is read and written: what
   cannot be is told by an error. */
#define PAGE 4096
#define PAGES 32
static char *window;
static const int scratch = 50;

static void peek(const char *from, long count) {
    char data[64];
    long wrote = pwrite(scratch, from, count, 0);
    result(wrote);
    if (wrote > 0)
        bytes(data, pread(scratch, data, wrote, 0));
}

static void poke(char *to, const char *text) {
    pwrite(scratch, text, strlen(text), 0);
    result(pread(scratch, to, strlen(text), 0));
}

static void mapped(void *at) { result(at == MAP_FAILED ? -1 : ((char *)at - window) / PAGE); }

static void carry_out(char **w, int count) {
    char data[4096];
    struct stat it;
    long long n[6] = {0};
    for (int k = 1; k < count && k < 6; k++)
        n[k] = strtoll(w[k], NULL, 0);
#define IS(name) (!strcmp(w[0], name))
    if (IS("open"))
        result(open(path(w[1]), translated(n[2], 0), n[3]));
    else if (IS("openat"))
        result(openat(n[1], path(w[2]), translated(n[3], 0), n[4]));
    else if (IS("close"))
        result(close(n[1]));
    else if (IS("read")) {
        long got = read(n[1], data, n[2]);
        result(got);
        bytes(data, got);
    } else if (IS("pread")) {
        long got = pread(n[1], data, n[2], n[3]);
        result(got);
        bytes(data, got);
    } else if (IS("readv")) {
        struct iovec parts[2] = {{data, n[2]}, {data + 2048, n[3]}};
        long got = readv(n[1], parts, 2);
        result(got);
        bytes(data, got < n[2] ? got : n[2]);
    } else if (IS("write"))
        result(write(n[1], w[2], strlen(w[2])));
    else if (IS("pwrite"))
        result(pwrite(n[1], w[2], strlen(w[2]), n[3]));
    else if (IS("writev")) {
        struct iovec parts[2] = {{w[2], strlen(w[2])}, {w[3], strlen(w[3])}};
        result(writev(n[1], parts, 2));
    } else if (IS("lseek"))
        result(lseek(n[1], n[2], n[3]));
    else if (IS("stat"))
        status(stat(path(w[1]), &it), &it);
    else if (IS("lstat"))
        status(lstat(path(w[1]), &it), &it);
    else if (IS("fstat"))
        status(fstat(n[1], &it), &it);
    else if (IS("fstatat"))
        status(fstatat(n[1], path(w[2]), &it, n[3]), &it);
    else if (IS("statx")) {
        struct statx told;
        memset(&told, 0, sizeof told);
        int value = statx(n[1], path(w[2]), n[3], STATX_BASIC_STATS, &told);
        result(value);
        if (value == 0) {
            number("mode", told.stx_mode);
            number("links", told.stx_nlink);
            if (!S_ISDIR(told.stx_mode))
                number("size", told.stx_size);
        }
    } else if (IS("mkdir"))
        result(mkdir(path(w[1]), n[2]));
    else if (IS("mkdirat"))
        result(mkdirat(n[1], path(w[2]), n[3]));
    else if (IS("rmdir"))
        result(rmdir(path(w[1])));
    else if (IS("unlink"))
        result(unlink(path(w[1])));
    else if (IS("unlinkat"))
        result(unlinkat(n[1], path(w[2]), n[3]));
    else if (IS("link"))
        result(link(path(w[1]), path(w[2])));
    else if (IS("linkat"))
        result(linkat(AT_FDCWD, path(w[1]), AT_FDCWD, path(w[2]), n[3]));
    else if (IS("symlink"))
        result(symlink(path(w[1]), path(w[2])));
    else if (IS("rename"))
        result(rename(path(w[1]), path(w[2])));
    else if (IS("rename2"))
        result(renameat2(AT_FDCWD, path(w[1]), AT_FDCWD, path(w[2]), n[3]));
    else if (IS("readlink")) {
        long got = readlink(path(w[1]), data, n[2]);
        result(got);
        bytes(data, got);
    } else if (IS("truncate"))
        result(truncate(path(w[1]), n[2]));
    else if (IS("ftruncate"))
        result(ftruncate(n[1], n[2]));
    else if (IS("chmod"))
        result(chmod(path(w[1]), n[2]));
    else if (IS("fchmod"))
        result(fchmod(n[1], n[2]));
    else if (IS("chown"))
        result(chown(path(w[1]), n[2], n[3]));
    else if (IS("access"))
        result(access(path(w[1]), n[2]));
    else if (IS("dup"))
        result(dup(n[1]));
    else if (IS("dup2"))
        result(dup2(n[1], n[2]));
    else if (IS("dup3"))
        result(dup3(n[1], n[2], n[3]));
    else if (IS("fcntl")) {
        long got = fcntl(n[1], n[2], n[2] == F_SETFL ? translated(n[3], 0) : n[3]);
        result(got >= 0 && n[2] == F_GETFL ? translated(got, 1) | 0100000 : got);
    }
    else if (IS("list"))
        list(path(w[1]));
    else if (IS("chdir"))
        result(chdir(path(w[1])));
    else if (IS("fchdir"))
        result(fchdir(n[1]));
    else if (IS("cwd")) {
        long got = syscall(SYS_getcwd, data, n[1]);
        if (got > 0) {
            size_t skip = strlen(base);
            tell(" ");
            tell(strlen(data) >= skip ? data + skip : data);
        } else
            result(got);
    } else if (IS("umask"))
        result(umask(n[1]));
    else if (IS("fallocate"))
        result(fallocate(n[1], n[2], n[3], n[4]));
    else if (IS("times")) {
        struct timespec times[2] = {{n[2], 5}, {n[3], 7}};
        int value = utimensat(AT_FDCWD, path(w[1]), times, 0);
        result(value);
        if (value == 0 && stat(path(w[1]), &it) == 0)
            number("changed", it.st_mtim.tv_sec);
    } else if (IS("fsync"))
        result(fsync(n[1]));
    else if (IS("map"))
        mapped(mmap(window + n[1] * PAGE, n[2], n[3], n[4] | MAP_FIXED, n[5], strtoll(w[6], NULL, 0)));
    else if (IS("unmap"))
        result(munmap(window + n[1] * PAGE, n[2]));
    else if (IS("protect"))
        result(mprotect(window + n[1] * PAGE, n[2], n[3]));
    else if (IS("advise"))
        result(madvise(window + n[1] * PAGE, n[2], n[3]));
    else if (IS("sync"))
        result(msync(window + n[1] * PAGE, n[2], n[3]));
    else if (IS("resize"))
        mapped(mremap(window + n[1] * PAGE, n[2], n[3], 0));
    else if (IS("move"))
        mapped(mremap(window + n[1] * PAGE, n[2], n[3], MREMAP_MAYMOVE | MREMAP_FIXED, window + n[4] * PAGE));
    else if (IS("peek"))
        peek(window + n[1] * PAGE + n[2], n[3]);
    else if (IS("poke"))
        poke(window + n[1] * PAGE + n[2], w[3]);
    else
        tell(" no such call");
}

int main(void) {
    size_t got, all = 0;
    while ((got = read(0, input + all, sizeof input - 1 - all)) > 0 && all + got < sizeof input)
        all += got;
    umask(022);
    for (int fd = 3; fd < 64; fd++)
        close(fd);
    window = mmap(NULL, PAGES * PAGE, PROT_NONE, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
    int file = open("scratch", O_RDWR | O_CREAT, 0600);
    unlink("scratch");
    dup2(file, scratch);
    close(file);
    if (!getcwd(base, sizeof base))
        return 1;
    for (char *line = strtok(input, "\n"), *rest; line; line = rest ? strtok(rest, "\n") : NULL) {
        rest = line + strlen(line) + 1;
        if (rest >= input + all)
            rest = NULL;
        char *words[8];
        int count = 0;
        tell(line);
        tell(" ->");
        for (char *at = line; count < 8;) {
            char *space = strchr(at, ' ');
            words[count++] = at;
            if (!space)
                break;
            *space = 0;
            at = space + 1;
        }
        carry_out(words, count);
        tell("\n");
    }
    /* Standard output may be another file by now. */
    for (size_t done = 0; done < filled;) {
        long wrote = write(1, output + done, filled - done);
        if (wrote <= 0)
            return 2;
        done += wrote;
    }
    return 0;
}
