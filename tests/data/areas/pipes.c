/* Pipes within a process and between processes, and waiting for them. */
#include "tell.h"
#include <poll.h>
#include <signal.h>
#include <sys/ioctl.h>
#include <sys/select.h>
#include <sys/stat.h>
#include <sys/uio.h>
#include <sys/wait.h>

static char block[70000];
static volatile int signals;
static void count(int number) { signals += number; }

static void look(const char *what, int fd, int events) {
    struct pollfd it = {fd, events, 0};
    tell(what, poll(&it, 1, 0));
    printf("%x\n", it.revents);
}

/* A child that sends a signal again and again, since nobody knows when the wait begins which it is to end. */
static pid_t bother(void) {
    pid_t parent = getpid(), child = fork();
    while (!child)
        usleep(2000), kill(parent, SIGUSR1);
    return child;
}

static void leave_off(pid_t child) {
    kill(child, SIGKILL);
    while (waitpid(child, NULL, 0) < 0 && errno == EINTR)
        ;
}

int main(void) {
    int p[2], q[2];
    char text[32] = {0};
    setvbuf(stdout, NULL, _IONBF, 0);
    tell("pipe", pipe(p));
    tell("flags", pipe2(q, 3));
    tell("no memory", syscall(SYS_pipe2, 8, 0));
    tell("write", write(p[1], "fog bell", 8));
    int left;
    tell("left", ioctl(p[0], FIONREAD, &left));
    printf("%d\n", left);
    tell("some", read(p[0], text, 3));
    tell("rest", read(p[0], text + 3, 20));
    printf("%s\n", text);
    tell("wrong end", read(p[1], text, 1));
    tell("wrong end", write(p[0], text, 1));
    tell("seek", lseek(p[0], 0, SEEK_SET));
    tell("pread", pread(p[0], text, 1, 0));
    tell("pwrite", pwrite(p[1], text, 1, 0));
    tell("nothing", write(p[1], text, 0));
    tell("nothing", read(p[0], text, 0));
    struct stat about;
    tell("stat", fstat(p[0], &about));
    printf("%o %d\n", about.st_mode, (int)about.st_size);
    struct iovec parts[2] = {{"lamp", 4}, {"light", 5}};
    tell("writev", writev(p[1], parts, 2));
    tell("read", read(p[0], text, sizeof text));
    printf("%.9s\n", text);

    tell("pipe2", pipe2(q, O_NONBLOCK | O_CLOEXEC));
    printf("%x %x\n", fcntl(q[0], F_GETFL), fcntl(q[0], F_GETFD));
    tell("empty", read(q[0], text, 1));
    look("empty", q[0], POLLIN), look("room", q[1], POLLOUT);
    tell("much", write(q[1], block, sizeof block));
    tell("full", write(q[1], block, 1));
    look("full", q[1], POLLOUT), look("filled", q[0], POLLIN);
    tell("read", read(q[0], block, 4096));
    tell("room again", write(q[1], block, 4096));
    tell("close", close(q[1]));
    long all = 0, got;
    while ((got = read(q[0], block, sizeof block)) > 0)
        all += got;
    printf("%ld %ld\n", all, got);
    look("ended", q[0], POLLIN);
    close(q[0]);

    signal(SIGPIPE, SIG_IGN);
    pipe(q), close(q[0]);
    tell("no reader", write(q[1], "x", 1));
    look("no reader", q[1], POLLOUT);
    signal(SIGPIPE, count);
    tell("signal", write(q[1], "x", 1));
    printf("%d\n", signals);
    close(q[1]);

    /* More than fits, to a child that reads in small parts. */
    pipe(p), pipe(q);
    pid_t child = fork();
    if (!child) {
        long long sum = 0;
        long got;
        close(p[1]), close(q[0]);
        while ((got = read(p[0], block, 777)) > 0)
            for (long i = 0; i < got; i++)
                sum += block[i];
        write(q[1], &sum, sizeof sum);
        _exit(5);
    }
    close(p[0]), close(q[1]);
    memset(block, 1, sizeof block);
    tell("all", write(p[1], block, sizeof block));
    tell("more", write(p[1], block, 30000));
    close(p[1]);
    long long sum = 0;
    tell("sum", read(q[0], &sum, sizeof sum));
    int status;
    printf("%lld %d\n", sum, waitpid(child, &status, 0) == child && WEXITSTATUS(status) == 5);
    close(q[0]);

    /* Poll and select wait for what a child writes. */
    pipe(p);
    if (!fork()) {
        usleep(1000);
        write(p[1], "horn", 4);
        usleep(1000);
        _exit(0);
    }
    close(p[1]);
    struct pollfd it = {p[0], POLLIN, 0};
    tell("poll", poll(&it, 1, 5000));
    printf("%x\n", it.revents & POLLIN);
    tell("read", read(p[0], text, 9));
    fd_set set;
    FD_ZERO(&set);
    FD_SET(p[0], &set);
    tell("select", select(p[0] + 1, &set, NULL, NULL, &(struct timeval){5, 0}));
    tell("end", read(p[0], text, 9));
    wait(&status);
    close(p[0]);

    /* A signal ends a wait, with what was written so far. */
    struct sigaction plain = {.sa_handler = count}, again = {.sa_handler = count, .sa_flags = SA_RESTART};
    pipe(p);
    pid_t self = getpid();
    sigaction(SIGUSR1, &plain, NULL);
    child = bother();
    long ended = read(p[0], text, 1);
    int why = errno;
    leave_off(child);
    printf("interrupted: %ld %d\n", ended, why);
    sigaction(SIGUSR1, &again, NULL);
    if (!(child = fork())) {
        usleep(2000), kill(self, SIGUSR1);
        usleep(2000), write(p[1], "z", 1);
        _exit(0);
    }
    tell("begun again", read(p[0], text, 1));
    waitpid(child, NULL, 0);
    sigaction(SIGUSR1, &plain, NULL);
    child = bother();
    ended = write(p[1], block, sizeof block);
    leave_off(child);
    tell("a part", ended);
    return 0;
}
