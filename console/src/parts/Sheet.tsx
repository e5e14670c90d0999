// A sheet that lies over the page until it is closed, and the button that opens it.
import type { ReactNode } from 'react';
import { Dialog, DialogTrigger, Heading, Modal, ModalOverlay } from 'react-aria-components';
import styled from 'styled-components';
import { c, radius } from '../theme';
import { Button } from './controls';

const Veil = styled(ModalOverlay)`position: fixed; inset: 0; background: ${c.veil}; display: grid; place-items: center; z-index: 60;`;
const Paper = styled(
  Modal,
)`
  background: ${c.panel}; border: 1px solid ${c.grout}; border-radius: ${radius}; padding: 24px; width: min(420px, calc(100vw - 32px));
  max-height: calc(100vh - 32px); overflow: auto; outline: none;
`;

export function Sheet(p: { open: string; small?: boolean; title: string; children: (close: () => void) => ReactNode }) {
  return (
    <DialogTrigger>
      <Button $small={p.small}>{p.open}</Button>
      <Veil isDismissable>
        <Paper>
          <Dialog style={{ outline: 'none' }}>
            {({ close }) => (
              <>
                <Heading slot="title" level={2}>{p.title}</Heading>
                {p.children(close)}
              </>
            )}
          </Dialog>
        </Paper>
      </Veil>
    </DialogTrigger>
  );
}
