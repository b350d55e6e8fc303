// The part of SQLite's C interface that rows.c uses. The driver, which compiles SQLite, does not give its header to
// other packages. SQLite promises that these declarations stay as they are (https://sqlite.org/c3ref/intro.html).

#ifndef KOINOS_SQLITE_H
#define KOINOS_SQLITE_H

#include <stdint.h>

enum {
  SQLITE_OK = 0,
  SQLITE_ERROR = 1,
  SQLITE_NOMEM = 7,
  SQLITE_TOOBIG = 18,
  SQLITE_CONSTRAINT = 19,
};

enum { SQLITE_INTEGER = 1, SQLITE_FLOAT = 2, SQLITE_TEXT = 3, SQLITE_BLOB = 4, SQLITE_NULL = 5 };

#define SQLITE_UTF8 1
#define SQLITE_DIRECTONLY 0x000080000
#define SQLITE_INDEX_CONSTRAINT_EQ 2
#define SQLITE_STATIC ((sqlite3_free_value)0)

typedef int64_t sqlite3_int64;
typedef uint64_t sqlite3_uint64;
typedef struct sqlite3 sqlite3;
typedef struct sqlite3_context sqlite3_context;
typedef struct sqlite3_value sqlite3_value;
typedef struct sqlite3_module sqlite3_module;
typedef struct sqlite3_vtab sqlite3_vtab;
typedef struct sqlite3_vtab_cursor sqlite3_vtab_cursor;
typedef struct sqlite3_index_info sqlite3_index_info;
typedef void (*sqlite3_free_value)(void *);

struct sqlite3_vtab {
  const sqlite3_module *module;
  int cursors;
  char *error; // from sqlite3_mprintf
};

struct sqlite3_vtab_cursor {
  sqlite3_vtab *table;
};

struct sqlite3_index_info {
  int constraints;
  struct sqlite3_index_constraint {
    int column;
    unsigned char op;
    unsigned char usable;
    int term;
  } *constraint;
  int orders;
  void *order;
  struct sqlite3_index_constraint_usage {
    int argument;
    unsigned char omit;
  } *usage;
  int number;
  char *text;
  int free_text;
  int ordered;
  double cost;
  sqlite3_int64 rows;
  int flags;
  sqlite3_uint64 columns_used;
};

// Version 0 of a module: later members are not read.
struct sqlite3_module {
  int version;
  int (*create)(sqlite3 *, void *, int, const char *const *, sqlite3_vtab **, char **);
  int (*connect)(sqlite3 *, void *, int, const char *const *, sqlite3_vtab **, char **);
  int (*best_index)(sqlite3_vtab *, sqlite3_index_info *);
  int (*disconnect)(sqlite3_vtab *);
  int (*destroy)(sqlite3_vtab *);
  int (*open)(sqlite3_vtab *, sqlite3_vtab_cursor **);
  int (*close)(sqlite3_vtab_cursor *);
  int (*filter)(sqlite3_vtab_cursor *, int, const char *, int, sqlite3_value **);
  int (*next)(sqlite3_vtab_cursor *);
  int (*eof)(sqlite3_vtab_cursor *);
  int (*column)(sqlite3_vtab_cursor *, sqlite3_context *, int);
  int (*rowid)(sqlite3_vtab_cursor *, sqlite3_int64 *);
  void *later[16]; // version 0 has none of the others: all are null
};

int sqlite3_auto_extension(void (*entry)(void));
int sqlite3_create_module_v2(sqlite3 *, const char *name, const sqlite3_module *, void *, sqlite3_free_value);
int sqlite3_declare_vtab(sqlite3 *, const char *sql);
int sqlite3_create_function_v2(sqlite3 *, const char *name, int arguments, int flags, void *,
                               void (*call)(sqlite3_context *, int, sqlite3_value **),
                               void (*step)(sqlite3_context *, int, sqlite3_value **),
                               void (*final)(sqlite3_context *), sqlite3_free_value);

void *sqlite3_malloc64(sqlite3_uint64);
void *sqlite3_realloc64(void *, sqlite3_uint64);
void sqlite3_free(void *);
char *sqlite3_mprintf(const char *, ...);
void *sqlite3_aggregate_context(sqlite3_context *, int bytes);

int sqlite3_value_type(sqlite3_value *);
int sqlite3_value_bytes(sqlite3_value *);
const void *sqlite3_value_blob(sqlite3_value *);
const unsigned char *sqlite3_value_text(sqlite3_value *);
sqlite3_int64 sqlite3_value_int64(sqlite3_value *);
double sqlite3_value_double(sqlite3_value *);

void sqlite3_result_null(sqlite3_context *);
void sqlite3_result_int64(sqlite3_context *, sqlite3_int64);
void sqlite3_result_double(sqlite3_context *, double);
void sqlite3_result_text64(sqlite3_context *, const char *, sqlite3_uint64, sqlite3_free_value, unsigned char encoding);
void sqlite3_result_blob64(sqlite3_context *, const void *, sqlite3_uint64, sqlite3_free_value);
void sqlite3_result_error_nomem(sqlite3_context *);
void sqlite3_result_error_toobig(sqlite3_context *);

#endif
