/* Counts the calls that change files, and at the n-th kills the process or lets the call fail; for crash.py. */
#define _GNU_SOURCE
#include <dlfcn.h>
#include <errno.h>
#include <fcntl.h>
#include <signal.h>
#include <stdarg.h>
#include <sys/stat.h>
#include <sys/types.h>
#include <sys/uio.h>
#include <unistd.h>

static long count, at = -1;
static int way; /* 0: kill; 1: that call fails with EIO; 2: it and all that need space fail with ENOSPC */

void arm(long n, int mode) { count = 0; at = n; way = mode; }
long counted(void) { return count; }

static int file(int fd) {
    struct stat told;
    return fstat(fd, &told) == 0 && S_ISREG(told.st_mode);
}

/* Whether this call is to fail; needs_space: a full disk lets it fail. */
static int fails(int needs_space) {
    if (at < 0) return 0;
    count++;
    if (count == at && way == 0) { kill(getpid(), SIGKILL); pause(); }
    if (count == at && way == 1) { errno = EIO; return 1; }
    if (count >= at && way == 2 && needs_space) { errno = ENOSPC; return 1; }
    return 0;
}

#define REAL(name) static __typeof__(&name) real; if (!real) real = dlsym(RTLD_NEXT, #name)

ssize_t write(int fd, const void *b, size_t n) { REAL(write); return file(fd) && fails(1) ? -1 : real(fd, b, n); }
ssize_t pwrite(int fd, const void *b, size_t n, off_t o) { REAL(pwrite); return fails(1) ? -1 : real(fd, b, n, o); }
ssize_t pwrite64(int fd, const void *b, size_t n, off64_t o) { REAL(pwrite64); return fails(1) ? -1 : real(fd, b, n, o); }
ssize_t writev(int fd, const struct iovec *v, int n) { REAL(writev); return file(fd) && fails(1) ? -1 : real(fd, v, n); }
ssize_t pwritev(int fd, const struct iovec *v, int n, off_t o) { REAL(pwritev); return fails(1) ? -1 : real(fd, v, n, o); }
ssize_t pwritev64(int fd, const struct iovec *v, int n, off64_t o) { REAL(pwritev64); return fails(1) ? -1 : real(fd, v, n, o); }
int ftruncate(int fd, off_t n) { REAL(ftruncate); return fails(0) ? -1 : real(fd, n); }
int ftruncate64(int fd, off64_t n) { REAL(ftruncate64); return fails(0) ? -1 : real(fd, n); }
int truncate(const char *p, off_t n) { REAL(truncate); return fails(0) ? -1 : real(p, n); }
int truncate64(const char *p, off64_t n) { REAL(truncate64); return fails(0) ? -1 : real(p, n); }
int fallocate(int fd, int m, off_t o, off_t n) { REAL(fallocate); return fails(1) ? -1 : real(fd, m, o, n); }
int fallocate64(int fd, int m, off64_t o, off64_t n) { REAL(fallocate64); return fails(1) ? -1 : real(fd, m, o, n); }
int rename(const char *a, const char *b) { REAL(rename); return fails(0) ? -1 : real(a, b); }
int renameat(int c, const char *a, int d, const char *b) { REAL(renameat); return fails(0) ? -1 : real(c, a, d, b); }
int link(const char *a, const char *b) { REAL(link); return fails(1) ? -1 : real(a, b); }
int linkat(int c, const char *a, int d, const char *b, int f) { REAL(linkat); return fails(1) ? -1 : real(c, a, d, b, f); }
int unlink(const char *p) { REAL(unlink); return fails(0) ? -1 : real(p); }
int unlinkat(int d, const char *p, int f) { REAL(unlinkat); return fails(0) ? -1 : real(d, p, f); }
int mkdir(const char *p, mode_t m) { REAL(mkdir); return fails(1) ? -1 : real(p, m); }
int mkdirat(int d, const char *p, mode_t m) { REAL(mkdirat); return fails(1) ? -1 : real(d, p, m); }
int rmdir(const char *p) { REAL(rmdir); return fails(0) ? -1 : real(p); }
int fsync(int fd) { REAL(fsync); return fails(1) ? -1 : real(fd); }
int fdatasync(int fd) { REAL(fdatasync); return fails(1) ? -1 : real(fd); }

static int opened(int (*real)(const char *, int, ...), const char *p, int flags, mode_t m) {
    return (flags & O_CREAT) && fails(1) ? -1 : real(p, flags, m);
}
#define MODE mode_t m = 0; if (flags & O_CREAT) { va_list more; va_start(more, flags); m = va_arg(more, int); va_end(more); }
int open(const char *p, int flags, ...) { REAL(open); MODE return opened(real, p, flags, m); }
int open64(const char *p, int flags, ...) { REAL(open64); MODE return opened(real, p, flags, m); }
int openat(int d, const char *p, int flags, ...) { REAL(openat); MODE return (flags & O_CREAT) && fails(1) ? -1 : real(d, p, flags, m); }
int openat64(int d, const char *p, int flags, ...) { REAL(openat64); MODE return (flags & O_CREAT) && fails(1) ? -1 : real(d, p, flags, m); }
