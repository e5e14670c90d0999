// What happens when the page becomes another: the focus goes to it, and so does the view, to its top or to where it was left.
import { useEffect, useRef } from 'react';
import { NavigationType, useLocation, useNavigationType } from 'react-router';

const left = new Map<string, number>(); // how far each step of the history was scrolled, px
const patience = 1500; // ms that a page has to become as long as it was

/** Follows the route; `page` is the id of what the focus goes to. */
export function useArrival(page: string) {
  const { key, pathname } = useLocation();
  const how = useNavigationType();
  const before = useRef(pathname);
  useEffect(() => {
    const note = () => void left.set(key, window.scrollY);
    window.addEventListener('scroll', note, { passive: true });
    return () => window.removeEventListener('scroll', note);
  }, [key]);
  useEffect(() => {
    if (before.current === pathname) return;
    before.current = pathname;
    document.getElementById(page)?.focus({ preventScroll: true });
    const to = how === NavigationType.Pop ? (left.get(key) ?? 0) : 0;
    const until = performance.now() + patience;
    let frame = 0;
    const go = () => {
      window.scrollTo(0, to);
      if (Math.abs(window.scrollY - to) > 1 && performance.now() < until) frame = requestAnimationFrame(go);
    };
    go();
    return () => cancelAnimationFrame(frame);
  }, [key, pathname, how, page]);
}
