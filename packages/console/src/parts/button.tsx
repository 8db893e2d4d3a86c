import type { Decision } from '@tessarion/core';
import type { ComponentProps, JSX } from 'react';
import { Link, type LinkProps } from 'react-router';
import { Locked } from './locked.js';

interface Look {
  /** What the room is for: one of them, at most. */
  readonly main?: boolean | undefined;
  /** Takes something away. */
  readonly danger?: boolean | undefined;
  /** Without a border. */
  readonly bare?: boolean | undefined;
  /** In a line of a list. */
  readonly small?: boolean | undefined;
  /** As wide as the zone that it stands in. */
  readonly wide?: boolean | undefined;
}

/** What a button looks like, for what is none, such as a link or the button of a menu. */
export function buttonLook({ main, danger, bare, small, wide }: Look = {}): string {
  const size = small
    ? 'h-24 px-8 text-small touch:min-h-36 touch:px-12'
    : wide
      ? 'h-36 w-full justify-center px-10 touch:min-h-44'
      : `h-28 touch:min-h-44 ${bare ? 'px-6' : 'px-10'}`;
  const colour = main
    ? `font-semibold hover:brightness-108 ${danger ? 'border-danger bg-danger text-on-danger' : 'border-accent bg-accent text-on-accent'}`
    : bare
      ? 'border-transparent text-ink2 hover:border-ink2'
      : `border-rim bg-slab hover:border-ink2 ${danger ? 'text-danger' : 'text-ink'}`;
  return `inline-flex cursor-pointer items-center gap-6 whitespace-nowrap rounded-sm border disabled:cursor-default disabled:border-dashed disabled:border-rim disabled:bg-bed disabled:text-ink3 disabled:filter-none ${size} ${colour}`;
}

interface Guarded {
  /** Whether who looks may do it; otherwise it is locked, and says why on hover. */
  readonly may?: Decision;
}

/** Does something. */
export function Button({
  may,
  main,
  danger,
  bare,
  small,
  wide,
  className = '',
  type = 'button',
  ...rest
}: ComponentProps<'button'> & Look & Guarded): JSX.Element {
  if (may?.allowed === false)
    return (
      <Locked decision={may} wide={wide} small={small}>
        {rest.children}
      </Locked>
    );
  return (
    <button
      type={type}
      data-main={(main && !danger) || undefined}
      className={`${buttonLook({ main, danger, bare, small, wide })} ${className}`.trim()}
      {...rest}
    />
  );
}

/** Leads to where something is done. */
export function ButtonLink({
  may,
  main,
  danger,
  bare,
  small,
  wide,
  className = '',
  ...rest
}: LinkProps & Look & Guarded): JSX.Element {
  if (may?.allowed === false)
    return (
      <Locked decision={may} wide={wide} small={small}>
        {rest.children}
      </Locked>
    );
  return (
    <Link
      data-main={main || undefined}
      className={`${buttonLook({ main, danger, bare, small, wide })} ${className}`.trim()}
      {...rest}
    />
  );
}

/** A lesser act, in the words of a line; large enough for a finger, and no taller than a line of text. */
export function TextButton({ className = '', type = 'button', ...rest }: ComponentProps<'button'>): JSX.Element {
  return (
    <button
      type={type}
      className={`-my-2 h-24 flex-none cursor-pointer self-start text-small text-ink2 underline underline-offset-2 hover:text-accent disabled:cursor-default disabled:text-ink3 ${className}`.trim()}
      {...rest}
    />
  );
}

/** A way to another room, within words. */
export function TextLink({ className = '', ...rest }: LinkProps): JSX.Element {
  return (
    <Link className={`underline decoration-rim underline-offset-3 hover:text-accent ${className}`.trim()} {...rest} />
  );
}
