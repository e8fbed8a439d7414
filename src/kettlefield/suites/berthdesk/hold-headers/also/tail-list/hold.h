#pragma once

struct hold;

struct hold *hold_new(int limit);
int hold_load(struct hold *h, const char *name, int kg);
int hold_unload(struct hold *h, const char *name);
int hold_weight(const struct hold *h);
void hold_free(struct hold *h);
