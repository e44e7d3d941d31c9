/* Waiting for many descriptors in one set: epoll over pipes, counters, timers, signals, sockets, processes and other sets. */
#include "tell.h"
#include <poll.h>
#include <sys/epoll.h>
#include <sys/eventfd.h>
#include <sys/signalfd.h>
#include <sys/socket.h>
#include <sys/timerfd.h>
#include <sys/wait.h>

static int set;

static long add(const char *what, int fd, unsigned events, unsigned long data) {
    struct epoll_event event = {events, {.u64 = data}};
    return tell(what, epoll_ctl(set, EPOLL_CTL_ADD, fd, &event));
}

static long change(const char *what, int fd, unsigned events, unsigned long data) {
    struct epoll_event event = {events, {.u64 = data}};
    return tell(what, epoll_ctl(set, EPOLL_CTL_MOD, fd, &event));
}

static void take(const char *what, int fd) { tell(what, epoll_ctl(set, EPOLL_CTL_DEL, fd, NULL)); }

/* What the set tells, up to so many entries within so many milliseconds. */
static void look(const char *what, int most, int time) {
    struct epoll_event events[8];
    long count = tell(what, epoll_wait(set, events, most, time));
    for (int at = 0; at < count; at++)
        printf(" %x %lx\n", events[at].events, (unsigned long)events[at].data.u64);
}

static pid_t later(int milliseconds, int fd, const void *bytes, size_t count) {
    pid_t child = fork();
    if (!child) {
        usleep(milliseconds * 1000);
        write(fd, bytes, count);
        _exit(7);
    }
    return child;
}

int main(void) {
    int p[2], q[2], s[2];
    char text[64];
    uint64_t one = 1, number;
    setvbuf(stdout, NULL, _IONBF, 0);
    alarm(20);
    signal(SIGPIPE, SIG_IGN);
    tell("no size", epoll_create(0));
    tell("flags", epoll_create1(1));
    set = epoll_create1(EPOLL_CLOEXEC);
    tell("close on exec", fcntl(set, F_GETFD));
    pipe(p), pipe(q);
    look("nothing", 8, 0);
    tell("no room", epoll_wait(set, NULL, 0, 0));
    tell("not a set", epoll_wait(p[0], (void *)text, 1, 0));
    tell("closed", epoll_wait(99, (void *)text, 1, 0));
    add("add", p[0], EPOLLIN, 1);
    add("twice", p[0], EPOLLIN, 1);
    add("itself", set, EPOLLIN, 1);
    add("closed", 99, EPOLLIN, 1);
    int file = open("log", O_CREAT | O_RDWR, 0600);
    add("file", file, EPOLLIN, 1);
    tell("operation", epoll_ctl(set, 9, p[1], (void *)text));
    change("not in it", p[1], EPOLLOUT, 1);
    take("not in it", p[1]);
    tell("no memory", epoll_ctl(set, EPOLL_CTL_ADD, q[0], (void *)8));
    look("quiet", 8, 0);
    write(p[1], "fog", 3);
    look("level", 8, 0);
    look("level", 8, -1);
    read(p[0], text, 1);
    look("level", 8, 0);
    change("edge", p[0], EPOLLIN | EPOLLET, 2);
    look("edge", 8, 0);
    look("edge", 8, 0);
    write(p[1], "bell", 4);
    look("edge", 8, 0);
    look("edge", 8, 0);
    read(p[0], text, 64);
    look("edge", 8, 0);
    change("once", p[0], EPOLLIN | EPOLLONESHOT, 3);
    write(p[1], "x", 1);
    look("once", 8, 0);
    write(p[1], "x", 1);
    look("once", 8, 0);
    change("again", p[0], EPOLLIN | EPOLLONESHOT, 4);
    look("again", 8, 0);
    take("take", p[0]);
    look("taken", 8, 0);
    add("write end", p[1], EPOLLOUT, 5);
    add("other", q[0], EPOLLIN, 6);
    look("both", 8, 0);
    write(q[1], "x", 1);
    look("both", 8, 0);
    look("in turn", 1, 0);
    look("in turn", 1, 0);
    look("in turn", 1, 0);
    close(p[0]);
    look("no reader", 8, 0);
    close(p[1]);
    look("closed", 8, 0);
    read(q[0], text, 64);
    close(q[1]);
    look("no writer", 8, 0);
    int copy = dup(q[0]);
    close(q[0]);
    look("a copy is open", 8, 0);
    close(copy);
    look("closed", 8, 0);

    int counter = eventfd(0, EFD_NONBLOCK), clock = timerfd_create(CLOCK_MONOTONIC, TFD_NONBLOCK);
    add("counter", counter, EPOLLIN | EPOLLOUT | EPOLLET, 0x10);
    look("counter", 8, 0);
    look("counter", 8, 0);
    write(counter, &one, 8);
    look("counter", 8, 0);
    write(counter, &one, 8);
    look("counter", 8, 0);
    read(counter, &number, 8);
    look("counter", 8, 0);
    take("take", counter);
    add("clock", clock, EPOLLIN, 0x11);
    struct itimerspec time = {{0, 0}, {0, 10000000}};
    timerfd_settime(clock, 0, &time, NULL);
    look("not yet", 8, 0);
    look("clock", 8, 1000);
    look("clock", 8, 0);
    read(clock, &number, 8);
    look("read", 8, 0);
    change("edge", clock, EPOLLIN | EPOLLET, 0x12);
    time.it_interval.tv_nsec = 10000000;
    timerfd_settime(clock, 0, &time, NULL);
    look("first", 8, 1000);
    look("second", 8, 1000);
    take("take", clock);

    sigset_t mask;
    sigemptyset(&mask), sigaddset(&mask, SIGUSR1);
    sigprocmask(SIG_BLOCK, &mask, NULL);
    int signals = signalfd(-1, &mask, 0);
    add("signals", signals, EPOLLIN, 0x20);
    look("none", 8, 0);
    kill(getpid(), SIGUSR1);
    look("one", 8, -1);
    read(signals, (char[128]){0}, 128);
    look("read", 8, 0);
    pid_t child = fork();
    if (!child) {
        usleep(20000);
        kill(getppid(), SIGUSR1);
        _exit(0);
    }
    look("from a child", 8, 2000);
    read(signals, (char[128]){0}, 128);
    waitpid(child, NULL, 0);
    take("take", signals);
    sigset_t all;
    sigfillset(&all), sigdelset(&all, SIGUSR1);
    signal(SIGUSR1, SIG_IGN);
    tell("masked", epoll_pwait(set, (void *)text, 4, 1, &all));

    socketpair(AF_UNIX, SOCK_STREAM, 0, s);
    add("socket", s[0], EPOLLIN | EPOLLOUT | EPOLLRDHUP | EPOLLET, 0x30);
    look("socket", 8, 0);
    look("socket", 8, 0);
    write(s[1], "x", 1);
    look("arrived", 8, 0);
    read(s[0], text, 1);
    look("read", 8, 0);
    shutdown(s[1], SHUT_WR);
    look("shut", 8, 0);
    close(s[1]);
    look("closed", 8, 0);
    close(s[0]);
    look("gone", 8, 0);

    int inner = epoll_create1(0), outer = set;
    pipe(p);
    set = inner;
    add("inner", p[0], EPOLLIN, 0x40);
    set = outer;
    add("set in a set", inner, EPOLLIN, 0x41);
    look("quiet", 8, 0);
    write(p[1], "x", 1);
    look("set in a set", 8, 0);
    struct pollfd it = {outer, POLLIN, 0};
    tell("poll", poll(&it, 1, 0));
    printf("%x\n", it.revents);
    set = inner;
    add("circle", outer, EPOLLIN, 0x42);
    look("inner", 8, 0);
    set = outer;
    read(p[0], text, 1);
    look("read", 8, 0);
    close(inner);
    look("closed", 8, 0);

    child = later(20, p[1], "late", 4);
    add("pipe", p[0], EPOLLIN, 0x50);
    look("late", 8, 2000);
    int named = syscall(SYS_pidfd_open, child, 0);
    tell("names a process", named < 0 ? -1 : 0);
    tell("close on exec", fcntl(named, F_GETFD));
    tell("flags", syscall(SYS_pidfd_open, child, 1));
    tell("nobody", syscall(SYS_pidfd_open, 0, 0));
    read(p[0], text, 64);
    add("process", named, EPOLLIN, 0x51);
    look("ended", 8, 2000);
    tell("read", read(named, text, 8));
    tell("nothing", syscall(SYS_pidfd_send_signal, named, 0, NULL, 0));
    tell("flags", syscall(SYS_pidfd_send_signal, named, 0, NULL, 99));
    siginfo_t about;
    memset(&about, 0, sizeof about);
    tell("wait", waitid(P_PIDFD, named, &about, WEXITED));
    printf("%d %d\n", about.si_pid == child, about.si_status);
    tell("wait", waitid(P_PIDFD, named, &about, WEXITED));
    tell("gone", syscall(SYS_pidfd_send_signal, named, SIGTERM, NULL, 0));
    tell("not one", syscall(SYS_pidfd_send_signal, 1, 0, NULL, 0));
    close(named);
    child = fork();
    if (!child)
        for (;;)
            pause();
    named = syscall(SYS_pidfd_open, child, 0);
    tell("signal", syscall(SYS_pidfd_send_signal, named, SIGKILL, NULL, 0));
    add("process", named, EPOLLIN, 0x52);
    look("killed", 8, 2000);
    int status;
    waitpid(child, &status, 0);
    printf("%x\n", status);
    close(named);

    signal(SIGALRM, SIG_IGN);
    tell("late", epoll_wait(set, (void *)text, 4, 5));
    int64_t brief[2] = {0, 2000000};
    tell("brief", syscall(SYS_epoll_pwait2, set, text, 4, brief, NULL, 8));

    /* Named pipes. */
    tell("fifo", mkfifo("horn", 0640));
    tell("twice", mkfifo("horn", 0640));
    tell("socket", mknod("lamp", S_IFSOCK | 0600, 0));
    tell("plain", mknod("plain", S_IFREG | 0600, 0));
    tell("device", mknod("device", S_IFCHR | 0600, 0x103));
    struct stat seen;
    tell("stat", stat("horn", &seen));
    printf("%o %d\n", seen.st_mode, (int)seen.st_size);
    tell("no reader", open("horn", O_WRONLY | O_NONBLOCK));
    int reader = open("horn", O_RDONLY | O_NONBLOCK);
    tell("reader", reader < 0 ? -1 : 0);
    it = (struct pollfd){reader, POLLIN, 0};
    tell("poll", poll(&it, 1, 0));
    tell("empty", read(reader, text, 4));
    int writer = open("horn", O_WRONLY);
    tell("writer", writer < 0 ? -1 : 0);
    tell("empty", read(reader, text, 4));
    tell("write", write(writer, "toot", 4));
    tell("stat", fstat(reader, &seen));
    printf("%o\n", seen.st_mode);
    tell("read", read(reader, text, 64));
    close(writer);
    it.revents = 0;
    tell("poll", poll(&it, 1, 0));
    printf("%x\n", it.revents);
    close(reader);
    child = fork();
    if (!child) {
        usleep(10000);
        int fd = open("horn", O_WRONLY);
        write(fd, "from a child", 12);
        _exit(0);
    }
    reader = open("horn", O_RDONLY);
    tell("read", read(reader, text, 64));
    waitpid(child, NULL, 0);
    tell("end", read(reader, text, 64));
    close(reader);
    child = fork();
    if (!child) {
        usleep(10000);
        int fd = open("horn", O_RDONLY);
        _exit(read(fd, text, 64));
    }
    writer = open("horn", O_WRONLY);
    tell("write", write(writer, "to a child", 10));
    waitpid(child, &status, 0);
    printf("%x\n", status);
    tell("broken", write(writer, "x", 1));
    close(writer);
    int both = open("horn", O_RDWR);
    tell("write", write(both, "both", 4));
    tell("read", read(both, text, 64));
    tell("unlink", unlink("horn"));
    tell("still", write(both, "both", 4));
    return 0;
}
