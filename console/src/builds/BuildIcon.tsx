// The icon of a build, where its file has one.
import styled from 'styled-components';
import { base, type Build } from '../data/api';

const Icon = styled.img<{ $size: number }>`width: ${(p) => p.$size}px; height: ${(p) => p.$size}px; border-radius: 22%;`;

/** Its size is in px. No alt: what it stands beside says the same. */
export function BuildIcon({ of, size, alt = '' }: { of: Pick<Build, 'id' | 'has_icon'>; size: number; alt?: string }) {
  return of.has_icon ? <Icon $size={size} src={`${base}/builds/${of.id}/icon`} alt={alt} /> : null;
}
