// A library that is preloaded into the service: it stands between SQLite and the disk, and lets writes of the
// database fail, one or many, from a given one on. What it does is said in a file that the test has mapped too.
#define _GNU_SOURCE
#include <dlfcn.h>
#include <errno.h>
#include <fcntl.h>
#include <signal.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <unistd.h>

static struct control {
  int64_t writes; // so far
  int64_t from;   // the first that fails, counted from 1; 0 is none
  int64_t many;   // how many do
  int64_t how;    // 1 no space, 2 input/output error, 3 half is written, then no space, 4 the process is killed
  int64_t failed; // so far
} *c;

__attribute__((constructor)) static void begin(void) {
  const char *name = getenv("FAILING_DISK");
  int fd = name ? open(name, O_RDWR) : -1;
  if (fd < 0) return;
  void *at = mmap(NULL, sizeof *c, PROT_READ | PROT_WRITE, MAP_SHARED, fd, 0);
  close(fd);
  if (at != MAP_FAILED) c = at;
}

// fails counts a write, and says how it fails; 0 is not at all.
static int64_t fails(int fd) {
  char link[64], name[4096];
  if (!c) return 0;
  snprintf(link, sizeof link, "/proc/self/fd/%d", fd);
  ssize_t n = readlink(link, name, sizeof name - 1);
  if (n < 0) return 0;
  name[n] = 0;
  const char *at = strstr(name, "/koinos.db");
  if (!at || strstr(at, "-shm")) return 0;
  int64_t nth = __atomic_add_fetch(&c->writes, 1, __ATOMIC_SEQ_CST);
  if (!c->from || nth < c->from || nth >= c->from + c->many) return 0;
  __atomic_add_fetch(&c->failed, 1, __ATOMIC_SEQ_CST);
  if (c->how == 4) {
    kill(getpid(), SIGKILL);
    pause();
  }
  errno = c->how == 2 ? EIO : ENOSPC;
  return c->how;
}

#define REAL(name, type) static type real; if (!real) real = (type)dlsym(RTLD_NEXT, name)

typedef ssize_t (*pwriter)(int, const void *, size_t, off64_t);
typedef ssize_t (*writer)(int, const void *, size_t);
typedef int (*syncer)(int);
typedef int (*cutter)(int, off64_t);

ssize_t pwrite64(int fd, const void *b, size_t n, off64_t at) {
  REAL("pwrite64", pwriter);
  int64_t how = fails(fd);
  if (how == 3 && n > 1) return real(fd, b, n / 2, at); // SQLite writes the rest by another call
  return how ? -1 : real(fd, b, n, at);
}
ssize_t pwrite(int fd, const void *b, size_t n, off_t at) { return pwrite64(fd, b, n, at); }
ssize_t write(int fd, const void *b, size_t n) {
  REAL("write", writer);
  return fails(fd) ? -1 : real(fd, b, n);
}
int fsync(int fd) {
  REAL("fsync", syncer);
  return fails(fd) ? -1 : real(fd);
}
int fdatasync(int fd) {
  REAL("fdatasync", syncer);
  return fails(fd) ? -1 : real(fd);
}
int ftruncate64(int fd, off64_t n) {
  REAL("ftruncate64", cutter);
  return fails(fd) ? -1 : real(fd, n);
}
int ftruncate(int fd, off_t n) { return ftruncate64(fd, n); }
