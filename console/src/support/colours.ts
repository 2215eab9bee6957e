/** A colour of the looks as it is in the theme that is on, for what is drawn outside of style sheets. */
export function colourOf(name: string): string {
  const probe = document.createElement('span')
  probe.style.color = `var(${name})`
  document.body.append(probe)
  const colour = getComputedStyle(probe).color
  probe.remove()
  return colour
}
