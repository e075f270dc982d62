/**
 * Tells once, when a page is left, how fast it was for who looked at it: the vitals, the path, and whether it was a phone.
 * No cookie, no identifier, nothing stored; nothing at all when the browser says that its user wants no such thing.
 */
import { onCLS, onFCP, onINP, onLCP, onTTFB, type Metric } from "web-vitals";

const script = document.currentScript as HTMLScriptElement | null;
const to = script?.src.replace(/\.js(\?.*)?$/, ""); // where it came from, which the site's own server may pass on
declare const TIDE_SHARE: number; // of page views that tell, 0 to 1; the server writes it here
const wishes = navigator as Navigator & { globalPrivacyControl?: boolean };

if (to && !wishes.globalPrivacyControl && navigator.doNotTrack !== "1" && Math.random() < TIDE_SHARE) {
  const measured: Record<string, number> = {};
  const note = (m: Metric) => {
    measured[m.name] = Math.round(m.value * 1000) / 1000;
  };
  for (const on of [onLCP, onCLS, onINP, onFCP, onTTFB]) on(note, { reportAllChanges: true });
  let told = false;
  const tell = () => {
    if (told || !Object.keys(measured).length) return;
    told = true;
    const phone = matchMedia("(pointer: coarse)").matches && Math.min(screen.width, screen.height) < 600;
    navigator.sendBeacon(
      to,
      JSON.stringify({ p: location.pathname.slice(0, 500), d: phone ? "phone" : "desktop", m: measured }),
    );
  };
  const leaving = () => document.visibilityState === "hidden" && void Promise.resolve().then(tell);
  addEventListener("visibilitychange", leaving);
  addEventListener("pagehide", tell);
}
