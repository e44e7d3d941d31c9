/* Threads: making and joining them, locks, conditions, barriers, semaphores, keys, and the futex calls below them. */
#include "tell.h"
#include <limits.h>
#include <linux/futex.h>
#include <pthread.h>
#include <semaphore.h>
#include <stdatomic.h>
#include <sys/mman.h>
#include <sys/syscall.h>
#include <time.h>

#define KEEPERS 4
static pthread_mutex_t lock = PTHREAD_MUTEX_INITIALIZER;
static pthread_cond_t changed = PTHREAD_COND_INITIALIZER;
static pthread_rwlock_t log_lock = PTHREAD_RWLOCK_INITIALIZER;
static pthread_barrier_t watch;
static pthread_key_t key;
static pthread_once_t once = PTHREAD_ONCE_INIT;
static sem_t lamps;
static int count, first_watch, destroyed, begun;
static atomic_int turns;
static __thread int own = 3;

static long futex(uint32_t *word, int operation, uint32_t value, const struct timespec *time, uint32_t *second,
                  uint32_t third) {
    return syscall(SYS_futex, word, operation, value, time, second, third);
}

static void destroy(void *value) { __atomic_add_fetch(&destroyed, (int)(long)value, __ATOMIC_SEQ_CST); }
static void begin(void) { begun++; }

static void *keep(void *number) {
    pthread_setspecific(key, number);
    pthread_once(&once, begin);
    for (int i = 0; i < 200; i++) {
        pthread_mutex_lock(&lock);
        count++, own++;
        pthread_mutex_unlock(&lock);
        atomic_fetch_add(&turns, 1);
    }
    if (pthread_barrier_wait(&watch) == PTHREAD_BARRIER_SERIAL_THREAD)
        first_watch++;
    pthread_rwlock_rdlock(&log_lock);
    int seen = count;
    pthread_rwlock_unlock(&log_lock);
    sem_post(&lamps);
    return (void *)(long)(own * 1000 + seen);
}

/* A queue of four places between two threads. */
static int queue[4], filled, head;
static void *produce(void *unused) {
    for (int i = 1; i <= 50; i++) {
        pthread_mutex_lock(&lock);
        while (filled == 4)
            pthread_cond_wait(&changed, &lock);
        queue[(head + filled++) % 4] = i;
        pthread_cond_broadcast(&changed);
        pthread_mutex_unlock(&lock);
    }
    return NULL;
}

static int consume(void) {
    int sum = 0;
    for (int i = 1; i <= 50; i++) {
        pthread_mutex_lock(&lock);
        while (!filled)
            pthread_cond_wait(&changed, &lock);
        sum = sum * 3 + queue[head], head = (head + 1) % 4, filled--;
        pthread_cond_broadcast(&changed);
        pthread_mutex_unlock(&lock);
    }
    return sum;
}

static uint32_t word;
static void *sleep_at(void *unused) {
    long slept;
    while ((slept = futex(&word, FUTEX_WAIT_PRIVATE, 0, NULL, NULL, 0)) == 0 && !__atomic_load_n(&word, __ATOMIC_SEQ_CST))
        ;
    return (void *)(slept == 0 || errno == EAGAIN ? 1L : -1L);
}

static pthread_mutex_t robust;
static void *die_with_lock(void *unused) {
    pthread_mutex_lock(&robust);
    return NULL;
}

static void *cancelled(void *unused) {
    for (;;)
        pause();
}

int main(void) {
    pthread_t keepers[KEEPERS], other;
    void *result;
    pthread_barrier_init(&watch, NULL, KEEPERS);
    sem_init(&lamps, 0, 0);
    pthread_key_create(&key, destroy);
    for (long i = 0; i < KEEPERS; i++)
        tell("create", pthread_create(&keepers[i], NULL, keep, (void *)(i + 1)));
    for (int i = 0; i < KEEPERS; i++)
        sem_wait(&lamps);
    for (int i = 0; i < KEEPERS; i++) {
        tell("join", pthread_join(keepers[i], &result));
        printf("%ld\n", (long)result);
    }
    printf("%d %d %d %d %d %d\n", count, atomic_load(&turns), first_watch, destroyed, begun, own);

    pthread_create(&other, NULL, produce, NULL);
    printf("%d\n", consume());
    pthread_join(other, NULL);

    /* Times run out. */
    struct timespec soon;
    clock_gettime(CLOCK_REALTIME, &soon);
    soon.tv_nsec += 2000000;
    if (soon.tv_nsec >= 1000000000)
        soon.tv_sec++, soon.tv_nsec -= 1000000000;
    pthread_mutex_lock(&lock);
    printf("%d\n", pthread_cond_timedwait(&changed, &lock, &soon) == ETIMEDOUT);
    printf("%d\n", sem_timedwait(&lamps, &soon) == -1 && errno == ETIMEDOUT);
    pthread_mutex_unlock(&lock);

    /* The calls themselves. */
    struct timespec little = {0, 1000000};
    tell("another value", futex(&word, FUTEX_WAIT_PRIVATE, 1, NULL, NULL, 0));
    tell("time", futex(&word, FUTEX_WAIT_PRIVATE, 0, &little, NULL, 0));
    tell("no bits", futex(&word, FUTEX_WAIT_BITSET_PRIVATE, 0, NULL, NULL, 0));
    tell("nobody", futex(&word, FUTEX_WAKE_PRIVATE, INT_MAX, NULL, NULL, 0));
    tell("not aligned", futex((uint32_t *)((char *)&word + 1), FUTEX_WAKE, 1, NULL, NULL, 0));
    tell("no memory", futex((uint32_t *)16, FUTEX_WAIT_PRIVATE, 0, NULL, NULL, 0));
    tell("no time", futex(&word, FUTEX_WAIT_PRIVATE, 0, (struct timespec *)16, NULL, 0));
    tell("bad time", futex(&word, FUTEX_WAIT_PRIVATE, 0, &(struct timespec){0, -1}, NULL, 0));
    tell("no operation", futex(&word, 100, 0, NULL, NULL, 0));
    uint32_t second = 5;
    tell("requeue, other value", futex(&word, FUTEX_CMP_REQUEUE_PRIVATE, 1, (void *)1, &second, 7));
    tell("requeue", futex(&word, FUTEX_CMP_REQUEUE_PRIVATE, 1, (void *)1, &second, 0));
    tell("wake op", futex(&word, FUTEX_WAKE_OP_PRIVATE, 1, (void *)1, &second, FUTEX_OP(FUTEX_OP_ADD, 3, FUTEX_OP_CMP_EQ, 5)));
    printf("%u\n", second);
    uint32_t own_lock = 0;
    tell("lock", futex(&own_lock, FUTEX_LOCK_PI_PRIVATE, 0, NULL, NULL, 0));
    printf("%d\n", own_lock == syscall(SYS_gettid));
    tell("lock again", futex(&own_lock, FUTEX_LOCK_PI_PRIVATE, 0, NULL, NULL, 0));
    tell("try", futex(&own_lock, FUTEX_TRYLOCK_PI_PRIVATE, 0, NULL, NULL, 0));
    tell("unlock", futex(&own_lock, FUTEX_UNLOCK_PI_PRIVATE, 0, NULL, NULL, 0));
    tell("unlock again", futex(&own_lock, FUTEX_UNLOCK_PI_PRIVATE, 0, NULL, NULL, 0));
    printf("%u\n", own_lock);

    pthread_t sleepers[3];
    for (int i = 0; i < 3; i++)
        pthread_create(&sleepers[i], NULL, sleep_at, NULL);
    nanosleep(&(struct timespec){0, 20000000}, NULL);
    __atomic_store_n(&word, 1, __ATOMIC_SEQ_CST);
    /* How many wait by now depends on the processor. */
    printf("%d\n", futex(&word, FUTEX_WAKE_PRIVATE, INT_MAX, NULL, NULL, 0) <= 3);
    for (int i = 0; i < 3; i++) {
        pthread_join(sleepers[i], &result);
        printf("%ld\n", (long)result);
    }

    /* A lock whose owner ended, and one that inherits priorities. */
    pthread_mutexattr_t about;
    pthread_mutexattr_init(&about);
    pthread_mutexattr_setrobust(&about, PTHREAD_MUTEX_ROBUST);
    pthread_mutex_init(&robust, &about);
    pthread_create(&other, NULL, die_with_lock, NULL);
    pthread_join(other, NULL);
    tell("owner died", pthread_mutex_lock(&robust));
    tell("consistent", pthread_mutex_consistent(&robust));
    tell("unlock", pthread_mutex_unlock(&robust));
    pthread_mutexattr_init(&about);
    pthread_mutexattr_setprotocol(&about, PTHREAD_PRIO_INHERIT);
    pthread_mutex_init(&robust, &about);
    tell("inherits", pthread_mutex_lock(&robust));
    tell("unlock", pthread_mutex_unlock(&robust));

    pthread_create(&other, NULL, cancelled, NULL);
    tell("cancel", pthread_cancel(other));
    tell("join", pthread_join(other, &result));
    printf("%d\n", result == PTHREAD_CANCELED);
    return 0;
}
