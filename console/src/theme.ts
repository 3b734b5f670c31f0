import { createTheme, Select, type MantineColorsTuple, type CSSVariablesResolver } from '@mantine/core';

/** Dark pine: ink and everything that is well. */
const pine: MantineColorsTuple = [
  '#eef4f0',
  '#dbe7df',
  '#b7cfc0',
  '#8fb49d',
  '#6b9a7e',
  '#4a8062',
  '#33694c',
  '#1f553b',
  '#17442f',
  '#0e3322',
];

/** Apricot: only for what needs attention. */
const apricot: MantineColorsTuple = [
  '#fff3e8',
  '#fde3cc',
  '#f9c79b',
  '#f3a866',
  '#ec8d3c',
  '#d97621',
  '#b95f13',
  '#98490a',
  '#7a3a07',
  '#5c2b04',
];

/** Warm greys, as of paper in shade; Mantine's own are blue beside it. */
const gray: MantineColorsTuple = [
  '#f6f3ea',
  '#efebdf',
  '#e6e1d3',
  '#ddd8ca',
  '#c9c4b5',
  '#a9a597',
  '#86857a',
  '#656860',
  '#464d46',
  '#2b352f',
];

/** Pine at night, from text to ground. */
const dark: MantineColorsTuple = [
  '#dfe6e0',
  '#bcc7bf',
  '#a3b0a7',
  '#6f7f75',
  '#324038',
  '#28332d',
  '#1e2822',
  '#1a231e',
  '#141b17',
  '#101612',
];

export const theme = createTheme({
  primaryColor: 'pine',
  primaryShade: { light: 7, dark: 6 },
  colors: { pine, apricot, gray, dark },
  fontFamily: "'Atkinson Hyperlegible Next Variable', system-ui, sans-serif",
  fontFamilyMonospace: "'Atkinson Hyperlegible Mono Variable', ui-monospace, monospace",
  headings: { fontFamily: "'Atkinson Hyperlegible Next Variable', system-ui, sans-serif", fontWeight: '620' },
  defaultRadius: 'xs',
  fontSizes: { xs: '0.78rem', sm: '0.875rem', md: '0.94rem' },
  components: {
    // what is chosen again stays chosen; what may be empty has a button for that
    Select: Select.extend({ defaultProps: { allowDeselect: false } }),
    Tooltip: { defaultProps: { openDelay: 300, withinPortal: true } },
    Modal: { defaultProps: { closeButtonProps: { 'aria-label': 'Close' } } },
    Table: { defaultProps: { verticalSpacing: 7, horizontalSpacing: 'sm' } },
  },
});

export const variables: CSSVariablesResolver = () => ({
  variables: {},
  light: {
    '--paper': '#faf8f3',
    '--sheet': '#fffefb',
    '--rail': '#f1eee5',
    '--hairline': '#ddd8ca',
    '--ink': '#17261e',
    '--quiet': '#566159',
    '--well': '#1f553b',
    '--warn': '#98490a',
    '--warn-soft': '#fdecd9',
    '--mark': '#fbe3c8',
    '--apricot': '#d97621',
    '--mantine-color-body': '#faf8f3',
    '--mantine-color-text': '#17261e',
    '--mantine-color-dimmed': '#566159',
    '--mantine-color-error': '#98490a',
    '--mantine-color-placeholder': '#6b756e',
  },
  dark: {
    '--paper': '#141b17',
    '--sheet': '#1a231e',
    '--rail': '#101612',
    '--hairline': '#324038',
    '--ink': '#e6ece6',
    '--quiet': '#a3b0a7',
    '--well': '#9cc9ad',
    '--warn': '#f6b477',
    '--warn-soft': '#3b2a18',
    '--mark': '#503618',
    '--apricot': '#ec8d3c',
    '--mantine-color-body': '#141b17',
    '--mantine-color-text': '#e6ece6',
    '--mantine-color-dimmed': '#a3b0a7',
    '--mantine-color-error': '#f6b477',
    '--mantine-color-placeholder': '#8f9c94',
  },
});
