/* The same pass as the rehearsal's inner loop over one long trade after another: ATR stop, three targets, break-even, ATR
   trail, risk-percent sizing, pessimistic order. Written as plainly as C allows; see bench_rehearse.py. */
#include <math.h>
#include <stdint.h>

static double fl(double x) { double n = floor(x + 0.5), a = fabs(n) > 1 ? fabs(n) : 1, e = 1e-9 * a;
  if (e > 1e-6) e = 1e-6; return fabs(x - n) <= e ? n : floor(x); }
static int64_t lv(double x, int side) { return (int64_t)(side > 0 ? fl(x) : -fl(-x)); }

/* Returns the number of trades; `equity` gets the mark at each close. Prices in ticks. */
int64_t pass(int64_t n, const int64_t *o, const int64_t *h, const int64_t *l, const int64_t *c, const int64_t *s,
             const int64_t *sig, const double *atr, double tick_step, double fee_step, double percent, double *equity) {
  double cash = 64000.0; int64_t trades = 0, i = 0;
  while (i + 1 < n) {
    if (!sig[i] || isnan(atr[i])) { equity[i] = cash; i++; continue; }
    int side = sig[i]; int64_t e = i + 1, ref = side > 0 ? o[e] + s[e] : o[e];
    int64_t stop = lv(ref - side * 2.5 * atr[i], side), r = side * (ref - stop);
    int64_t steps = r > 2 ? (int64_t)floor(percent / 100 * cash / (r * tick_step + 2 * fee_step)) : 0;
    equity[i] = cash;
    if (steps < 1) { i++; continue; }
    int64_t t[3] = { lv(ref + side * 1.0 * r, side), lv(ref + side * 2.0 * r, side), lv(ref + side * 4.0 * r, side) };
    int64_t p1 = (int64_t)fl(0.4 * steps), p2 = (int64_t)fl(0.7 * steps), part[3] = { p1, p2 - p1, steps - p2 };
    int64_t left = steps, best = side * (side > 0 ? o[e] : o[e] + s[e]); double flow = -(double)side * ref * steps;
    cash -= fee_step * steps; trades++;
    for (i = e; i < n; i++) {
      int64_t x = side > 0 ? 0 : s[i], mo = side * (o[i] + x), mc = side * (c[i] + x);
      int64_t mh = side > 0 ? h[i] : -(l[i] + x), ml = side > 0 ? l[i] : -(h[i] + x), ms = side * stop;
      if (ml <= ms) { int64_t at = mo < ms ? mo : ms; flow += (double)at * left; cash += flow * tick_step - fee_step * left;
        left = 0; equity[i] = cash; break; }
      for (int k = 0; k < 3; k++) if (part[k] && mh >= side * t[k] && left) {
        int64_t take = part[k] < left ? part[k] : left, at = mo > side * t[k] ? mo : side * t[k];
        flow += (double)at * take; left -= take; cash -= fee_step * take; part[k] = 0; }
      if (!left) { cash += flow * tick_step; equity[i] = cash; break; }
      if (mh > best) best = mh;
      equity[i] = cash + (flow + (double)mc * left) * tick_step;
      int64_t level = stop, ex = best - side * ref, near = mc - 3;
      if (ex >= r) { int64_t b = side * ref; if (b < mc) { if (b > near) b = near; if (b > side * level) level = side * b; } }
      int64_t tr = side * lv(side * (double)best - side * 3.0 * atr[i], side);
      if (tr < mc && tr - side * stop >= 1) { if (tr > near) tr = near; if (tr > side * level) level = side * tr; }
      stop = level;
    }
  }
  while (i < n) equity[i++] = cash;
  return trades;
}
