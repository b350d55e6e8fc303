// unpack(value) is a table of the rows that a value holds, and pack(a, b, ...) is an aggregate that makes such a value.
// doc.go describes the form.

#include "sqlite.h"

#include <string.h>

enum { WIDEST = 48 };

// One value of a row, which points into the packed rows.
typedef struct {
  unsigned char type;
  sqlite3_int64 number; // an integer, the bits of a float, or the length of what bytes points at
  const unsigned char *bytes;
} field;

typedef struct {
  sqlite3_vtab_cursor base;
  unsigned char *rows; // a copy: the argument does not live as long as the cursor
  sqlite3_int64 size, at;
  sqlite3_int64 row; // counted from 1; 0 is before the first
  int width, done;
  field fields[WIDEST];
} cursor;

static uint64_t number(const unsigned char *p, int bytes) {
  uint64_t n = 0;
  for (int i = 0; i < bytes; i++) n |= (uint64_t)p[i] << (8 * i);
  return n;
}

static void put(unsigned char *p, uint64_t n, int bytes) {
  for (int i = 0; i < bytes; i++) p[i] = (unsigned char)(n >> (8 * i));
}

static int connect(sqlite3 *db, void *aux, int argc, const char *const *argv, sqlite3_vtab **table, char **error) {
  char sql[16 + 5 * WIDEST + 16] = "CREATE TABLE x(";
  char *p = sql + strlen(sql);
  for (int i = 1; i <= WIDEST; i++) {
    *p++ = 'c';
    if (i >= 10) *p++ = (char)('0' + i / 10);
    *p++ = (char)('0' + i % 10);
    *p++ = ',';
  }
  strcpy(p, "value HIDDEN)");
  int rc = sqlite3_declare_vtab(db, sql);
  if (rc != SQLITE_OK) return rc;
  if (!(*table = sqlite3_malloc64(sizeof(sqlite3_vtab)))) return SQLITE_NOMEM;
  memset(*table, 0, sizeof(sqlite3_vtab));
  return SQLITE_OK;
}

static int disconnect(sqlite3_vtab *table) {
  sqlite3_free(table);
  return SQLITE_OK;
}

static int best_index(sqlite3_vtab *table, sqlite3_index_info *info) {
  for (int i = 0; i < info->constraints; i++) {
    if (info->constraint[i].column == WIDEST && info->constraint[i].usable &&
        info->constraint[i].op == SQLITE_INDEX_CONSTRAINT_EQ) {
      info->usage[i].argument = 1;
      info->usage[i].omit = 1;
      info->cost = 100;
      info->rows = 100;
      return SQLITE_OK;
    }
  }
  return SQLITE_CONSTRAINT; // there are no rows without a value
}

static int open(sqlite3_vtab *table, sqlite3_vtab_cursor **made) {
  cursor *c = sqlite3_malloc64(sizeof *c);
  if (!c) return SQLITE_NOMEM;
  memset(c, 0, sizeof *c);
  *made = &c->base;
  return SQLITE_OK;
}

static int close(sqlite3_vtab_cursor *base) {
  cursor *c = (cursor *)base;
  sqlite3_free(c->rows);
  sqlite3_free(c);
  return SQLITE_OK;
}

static int cut(cursor *c) {
  sqlite3_free(c->base.table->error);
  c->base.table->error = sqlite3_mprintf("unpack: row %lld is not whole", c->row);
  return SQLITE_ERROR;
}

static int next(sqlite3_vtab_cursor *base) {
  cursor *c = (cursor *)base;
  c->row++;
  c->done = c->at >= c->size;
  if (c->done) return SQLITE_OK;
  const unsigned char *p = c->rows + c->at, *end = c->rows + c->size;
  for (int i = 0; i < c->width; i++) {
    field *f = &c->fields[i];
    if (p == end) return cut(c);
    f->type = *p++;
    switch (f->type) {
    case SQLITE_NULL:
      break;
    case SQLITE_INTEGER:
    case SQLITE_FLOAT:
      if (end - p < 8) return cut(c);
      f->number = (sqlite3_int64)number(p, 8);
      p += 8;
      break;
    case SQLITE_TEXT:
    case SQLITE_BLOB:
      if (end - p < 4) return cut(c);
      f->number = (sqlite3_int64)number(p, 4);
      p += 4;
      if (end - p < f->number) return cut(c);
      f->bytes = p;
      p += f->number;
      break;
    default:
      return cut(c);
    }
  }
  c->at = p - c->rows;
  return SQLITE_OK;
}

static int filter(sqlite3_vtab_cursor *base, int idx, const char *text, int argc, sqlite3_value **argv) {
  cursor *c = (cursor *)base;
  sqlite3_free(c->rows);
  c->rows = 0;
  c->size = c->at = c->row = c->width = 0;
  int size = sqlite3_value_bytes(argv[0]);
  const unsigned char *value = sqlite3_value_blob(argv[0]);
  if (size > 0) {
    c->width = value[0];
    if (sqlite3_value_type(argv[0]) != SQLITE_BLOB || c->width < 1 || c->width > WIDEST) return cut(c);
    if (!(c->rows = sqlite3_malloc64((sqlite3_uint64)size))) return SQLITE_NOMEM;
    memcpy(c->rows, value, (size_t)size);
    c->size = size;
    c->at = 1;
  }
  return next(base);
}

static int eof(sqlite3_vtab_cursor *base) { return ((cursor *)base)->done; }

static int rowid(sqlite3_vtab_cursor *base, sqlite3_int64 *id) {
  *id = ((cursor *)base)->row;
  return SQLITE_OK;
}

static int column(sqlite3_vtab_cursor *base, sqlite3_context *to, int i) {
  cursor *c = (cursor *)base;
  if (i >= c->width) {
    sqlite3_result_null(to);
    return SQLITE_OK;
  }
  const field *f = &c->fields[i];
  switch (f->type) {
  case SQLITE_INTEGER:
    sqlite3_result_int64(to, f->number);
    break;
  case SQLITE_FLOAT: {
    double d;
    memcpy(&d, &f->number, sizeof d);
    sqlite3_result_double(to, d);
    break;
  }
  case SQLITE_TEXT: // the bytes stay where they are until the statement ends
    sqlite3_result_text64(to, (const char *)f->bytes, (sqlite3_uint64)f->number, SQLITE_STATIC, SQLITE_UTF8);
    break;
  case SQLITE_BLOB:
    sqlite3_result_blob64(to, f->bytes, (sqlite3_uint64)f->number, SQLITE_STATIC);
    break;
  default:
    sqlite3_result_null(to);
  }
  return SQLITE_OK;
}

// The value that pack makes, while it grows.
typedef struct {
  unsigned char *rows;
  sqlite3_uint64 size, room;
  int failed;
} packed;

static unsigned char *grow(sqlite3_context *to, packed *p, sqlite3_uint64 more) {
  if (p->failed) return 0;
  if (p->size + more > p->room) {
    sqlite3_uint64 room = 2 * p->room + more + 256;
    unsigned char *rows = sqlite3_realloc64(p->rows, room);
    if (!rows) {
      p->failed = 1;
      sqlite3_result_error_nomem(to);
      return 0;
    }
    p->rows = rows;
    p->room = room;
  }
  unsigned char *at = p->rows + p->size;
  p->size += more;
  return at;
}

static void step(sqlite3_context *to, int argc, sqlite3_value **argv) {
  packed *p = sqlite3_aggregate_context(to, sizeof *p);
  if (!p) {
    sqlite3_result_error_nomem(to);
    return;
  }
  unsigned char *at;
  if (!p->size) {
    if (!(at = grow(to, p, 1))) return;
    *at = (unsigned char)argc;
  }
  for (int i = 0; i < argc; i++) {
    int type = sqlite3_value_type(argv[i]);
    switch (type) {
    case SQLITE_INTEGER:
    case SQLITE_FLOAT: {
      if (!(at = grow(to, p, 9))) return;
      sqlite3_int64 n;
      if (type == SQLITE_INTEGER) {
        n = sqlite3_value_int64(argv[i]);
      } else {
        double d = sqlite3_value_double(argv[i]);
        memcpy(&n, &d, sizeof n);
      }
      put(at + 1, (uint64_t)n, 8);
      break;
    }
    case SQLITE_TEXT:
    case SQLITE_BLOB: {
      // The text is asked for before its length: it may be kept in another encoding.
      const void *bytes =
          type == SQLITE_TEXT ? (const void *)sqlite3_value_text(argv[i]) : sqlite3_value_blob(argv[i]);
      int n = sqlite3_value_bytes(argv[i]);
      if (n && !bytes) {
        p->failed = 1;
        sqlite3_result_error_nomem(to);
        return;
      }
      if (!(at = grow(to, p, 5 + (sqlite3_uint64)n))) return;
      put(at + 1, (uint64_t)n, 4);
      if (n) memcpy(at + 5, bytes, (size_t)n);
      break;
    }
    default:
      if (!(at = grow(to, p, 1))) return;
    }
    *at = (unsigned char)type;
  }
}

static void final(sqlite3_context *to) {
  packed *p = sqlite3_aggregate_context(to, 0);
  if (!p || !p->rows) return; // no rows: NULL
  if (p->failed) {
    sqlite3_free(p->rows);
    return;
  }
  sqlite3_result_blob64(to, p->rows, p->size, sqlite3_free); // too big a value is SQLite's error, and freed
}

static const sqlite3_module unpack = {
    .connect = connect, // without create: the table is there by its name alone
    .best_index = best_index,
    .disconnect = disconnect,
    .destroy = disconnect,
    .open = open,
    .close = close,
    .filter = filter,
    .next = next,
    .eof = eof,
    .column = column,
    .rowid = rowid,
};

// add gives a new connection both.
static int add(sqlite3 *db, char **error, const void *api) {
  int rc = sqlite3_create_module_v2(db, "unpack", &unpack, 0, 0);
  if (rc == SQLITE_OK) {
    rc = sqlite3_create_function_v2(db, "pack", -1, SQLITE_UTF8 | SQLITE_DIRECTONLY, 0, 0, step, final, 0);
  }
  return rc;
}

int koinos_pack_rows(void) { return sqlite3_auto_extension((void (*)(void))add); }
